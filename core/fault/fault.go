// Package fault is the one vocabulary of errors that a person is meant to
// read: what is wrong, in which field, and what to do about it.
//
// The service maps a [Kind] to an HTTP status once; the command line maps it
// to an exit code. Anything else that goes wrong is an ordinary error.
package fault

import (
	"errors"
	"fmt"
)

// Kind classes a fault by what its reader can do.
type Kind int

const (
	Invalid     Kind = iota + 1 // the input breaks a rule: change it
	NotFound                    // nothing has this name
	Taken                       // the name is in use already
	Stale                       // somebody changed it since it was read
	Needed                      // other things still depend on it
	SignIn                      // who is asking is not known
	Forbidden                   // who is asking may not do this
	Throttled                   // too many tries: wait
	Unavailable                 // something that is needed does not answer: try again
)

// Error is a fault. Problem and Remedy are sentences without a full stop.
type Error struct {
	Kind    Kind
	Field   string // name of the input field, or "" when none is to blame
	Problem string
	Remedy  string
	Err     error // the cause, for logs; may be nil
}

func (e *Error) Error() string {
	text := e.Problem
	if e.Field != "" {
		text = e.Field + ": " + text
	}
	if e.Remedy != "" {
		text += "; " + e.Remedy
	}
	return text
}

func (e *Error) Unwrap() error { return e.Err }

// New makes a fault without a field.
func New(kind Kind, remedy, format string, args ...any) *Error {
	return &Error{Kind: kind, Problem: fmt.Sprintf(format, args...), Remedy: remedy}
}

// Field makes a fault of kind Invalid at a field.
func Field(field, remedy, format string, args ...any) *Error {
	return &Error{Kind: Invalid, Field: field, Problem: fmt.Sprintf(format, args...), Remedy: remedy}
}

// Because returns a copy of e that wraps its cause.
func (e *Error) Because(err error) *Error {
	with := *e
	with.Err = err
	return &with
}

// At returns a copy of e that blames a field.
func (e *Error) At(field string) *Error {
	with := *e
	with.Field = field
	return &with
}

// At returns err with a field, where it is a fault.
func At(field string, err error) error {
	var e *Error
	if errors.As(err, &e) {
		return e.At(field)
	}
	return err
}

// KindOf returns the kind of the fault inside err, or 0.
func KindOf(err error) Kind {
	var e *Error
	if errors.As(err, &e) {
		return e.Kind
	}
	return 0
}
