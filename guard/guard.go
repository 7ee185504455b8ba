// Package guard runs work whose panic fails that work, and not the process.
//
// A service must outlive a fault in one of its many units of work: a request, a scan, a
// transfer. Whoever starts a goroutine does so through this package. A panic is logged
// once, with its stack, is counted, and becomes an [Error] of the work.
package guard

import (
	"context"
	"fmt"
	"log/slog"
	"runtime/debug"
	"sync/atomic"
	"time"
)

// Error is a panic that failed a unit of work.
type Error struct{ Panic any }

func (e *Error) Error() string {
	return fmt.Sprintf("a fault of Bridge Span itself (%v): the log of the service says where", e.Panic)
}

// Unwrap gives the error that the work panicked with, if it was one.
func (e *Error) Unwrap() error {
	err, _ := e.Panic.(error)
	return err
}

var panics atomic.Int64

// Panics is how many panics have failed work since the process began.
func Panics() int64 { return panics.Load() }

// Call does work, and returns its error. A panic of the work is returned as an *Error.
func Call(work func() error) (err error) {
	defer func() {
		if r := recover(); r != nil {
			err = note(r)
		}
	}()
	return work()
}

func note(panicked any) error {
	panics.Add(1)
	slog.Error("work panicked", "panic", panicked, "stack", string(debug.Stack()))
	return &Error{panicked}
}

// Do does work that has no error of its own. It returns an *Error when the work panics.
func Do(work func()) error { return Call(func() error { work(); return nil }) }

// Func is work that may be left to others to call, a timer for one: its panic ends there.
func Func(work func()) func() { return func() { _ = Do(work) } }

// Go does work in a goroutine of its own. What waits for the work must not depend on how
// it ends: the work itself closes and releases what it has to by defer.
func Go(work func()) { go Func(work)() }

// pause is how long work that is always to go on rests after a panic.
const pause = time.Second

// Always does work that goes on until ctx ends; after a panic it is begun anew.
func Always(ctx context.Context, work func()) {
	for Do(work) != nil {
		select {
		case <-ctx.Done():
			return
		case <-time.After(pause):
		}
	}
}

// Result does work in a goroutine of its own, and delivers its error.
func Result(work func() error) <-chan error {
	done := make(chan error, 1)
	go func() { done <- Call(work) }()
	return done
}
