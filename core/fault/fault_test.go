package fault_test

import (
	"errors"
	"fmt"
	"io"
	"testing"

	"bridgespan/core/fault"
)

func ExampleField() {
	err := fault.Field("ttl", "use between 1 and 86400 seconds", "directions cannot be kept for %d seconds", -5)
	fmt.Println(err)
	fmt.Println(fault.KindOf(fmt.Errorf("while saving: %w", err)) == fault.Invalid)
	// Output:
	// ttl: directions cannot be kept for -5 seconds; use between 1 and 86400 seconds
	// true
}

// Copies share nothing with what they were made from.
func TestCopies(t *testing.T) {
	plain := fault.New(fault.Unavailable, "wait", "the database is away")
	blamed := plain.At("database").Because(io.EOF)
	if plain.Field != "" || plain.Err != nil {
		t.Errorf("the original changed: %+v", plain)
	}
	if !errors.Is(blamed, io.EOF) || blamed.Field != "database" || fault.KindOf(blamed) != fault.Unavailable {
		t.Errorf("the copy is %+v", blamed)
	}
	if fault.KindOf(io.EOF) != 0 || fault.KindOf(nil) != 0 {
		t.Error("an ordinary error has a kind")
	}
}
