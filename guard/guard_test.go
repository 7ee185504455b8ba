package guard_test

import (
	"context"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"testing"

	"bridgespan/guard"
)

func TestCall(t *testing.T) {
	broken := errors.New("broken")
	for name, c := range map[string]struct {
		work   func() error
		is     error
		panics bool
	}{
		"nothing":        {func() error { return nil }, nil, false},
		"an error":       {func() error { return broken }, broken, false},
		"a panic":        {func() error { panic("oh") }, nil, true},
		"an error panic": {func() error { panic(broken) }, broken, true},
		"nil pointer":    {func() error { var p *int; *p = 1; return nil }, nil, true},
	} {
		before := guard.Panics()
		err := guard.Call(c.work)
		var fault *guard.Error
		if errors.As(err, &fault) != c.panics || c.is != nil && !errors.Is(err, c.is) || (err == nil) != (c.is == nil && !c.panics) {
			t.Errorf("%s: %v", name, err)
		}
		if counted := guard.Panics() - before; (counted == 1) != c.panics {
			t.Errorf("%s: %d panics counted", name, counted)
		}
	}
}

// A panic fails its group with its own error, ends the context of the group, and comes
// before the errors that follow from that.
func TestGroup(t *testing.T) {
	group, ctx := guard.WithContext(t.Context())
	group.SetLimit(2)
	group.Go(func() error { <-ctx.Done(); return ctx.Err() })
	group.Go(func() error { panic("oh") })
	var fault *guard.Error
	if err := group.Wait(); !errors.As(err, &fault) {
		t.Errorf("the group ends with %v", err)
	}
	var alone guard.Group
	alone.SetLimit(1)
	if !alone.TryGo(func() error { panic("oh") }) || !errors.As(alone.Wait(), &fault) {
		t.Error("the group did not end with the panic")
	}
	var all guard.WaitGroup
	done := false
	all.Go(func() { panic("oh") })
	all.Go(func() { done = true })
	if err := all.Wait(); !errors.As(err, &fault) || !done {
		t.Errorf("all ended with %v, and the other: %v", err, done)
	}
	if err := <-guard.Result(func() error { panic("oh") }); !errors.As(err, &fault) {
		t.Errorf("the result is %v", err)
	}
}

func TestAlways(t *testing.T) {
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	rounds := 0
	guard.Always(ctx, func() {
		if rounds++; rounds < 2 {
			panic("oh")
		}
	})
	if rounds != 2 {
		t.Errorf("it was begun %d times", rounds)
	}
	stop()
	guard.Always(ctx, func() { panic("oh") }) // it returns
}

// A request that panics gets no answer that looks whole, and the server goes on.
func TestHandler(t *testing.T) {
	server := httptest.NewServer(guard.Handler(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/abort":
			panic(http.ErrAbortHandler)
		case "/panic":
			panic("oh")
		}
		_, _ = io.WriteString(w, "well")
	})))
	defer server.Close()
	for path, c := range map[string]struct {
		well   bool
		panics int64
	}{"/": {true, 0}, "/abort": {false, 0}, "/panic": {false, 1}} {
		before := guard.Panics()
		answer, err := http.Get(server.URL + path)
		if err == nil {
			answer.Body.Close()
		}
		if (err == nil) != c.well || guard.Panics()-before != c.panics {
			t.Errorf("%s: %v, %d panics counted", path, err, guard.Panics()-before)
		}
	}
}
