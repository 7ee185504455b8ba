package tree

import (
	"context"
	"errors"
	"testing"
)

// A sequence that is ended from outside does not look as if it had come to its end.
func TestAheadEndedFromOutside(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	endless := func(yield func(int, error) bool) {
		for i := 0; yield(i, nil); i++ {
		}
	}
	var failure error
	for i, err := range Ahead(ctx, endless) {
		if i == 3 {
			cancel()
		}
		failure = err
	}
	if !errors.Is(failure, context.Canceled) {
		t.Errorf("ended with %v", failure)
	}
}
