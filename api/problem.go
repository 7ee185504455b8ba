package api

import (
	"errors"
	"log/slog"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"bridgespan/core/fault"
	"bridgespan/model"
)

// problem is an error on its way out, as RFC 9457 has it.
type problem struct{ model.Problem }

func (p *problem) Error() string             { return p.Detail }
func (p *problem) GetStatus() int            { return p.Status }
func (p *problem) ContentType(string) string { return "application/problem+json" }

// statuses is where the kinds of faults become HTTP statuses, once.
var statuses = map[fault.Kind]int{
	fault.Invalid:     http.StatusUnprocessableEntity,
	fault.NotFound:    http.StatusNotFound,
	fault.Taken:       http.StatusConflict,
	fault.Stale:       http.StatusPreconditionFailed,
	fault.Needed:      http.StatusConflict,
	fault.SignIn:      http.StatusUnauthorized,
	fault.Forbidden:   http.StatusForbidden,
	fault.Throttled:   http.StatusTooManyRequests,
	fault.Unavailable: http.StatusServiceUnavailable,
}

// titles name the kinds of problems that Bridge Span tells apart beyond their status.
var titles = map[fault.Kind]string{
	fault.Invalid: "The input is not right", fault.NotFound: "Not found", fault.Taken: "The name is taken", fault.Stale: "Changed by somebody else",
	fault.Needed: "Still needed", fault.SignIn: "Not signed in", fault.Forbidden: "Not allowed", fault.Throttled: "Too many requests", fault.Unavailable: "Not available now",
}

// asProblem turns any error of a use case into what the client is told. What
// is not a fault is our own failure: its text goes to the log alone.
func asProblem(err error) *problem {
	var already *problem
	if errors.As(err, &already) {
		return already
	}
	var f *fault.Error
	if !errors.As(err, &f) {
		slog.Error("a request failed", "error", err)
		return newProblem(http.StatusInternalServerError, "Something went wrong in the service", "the service could not do this; its log says why", "look at the service's log, then try again")
	}
	p := newProblem(statuses[f.Kind], titles[f.Kind], f.Problem, f.Remedy)
	if f.Field != "" {
		p.Errors = []model.FieldProblem{{Field: f.Field, Detail: f.Problem}}
	}
	return p
}

func newProblem(status int, title, detail, remedy string) *problem {
	return &problem{model.Problem{Type: "about:blank", Title: title, Status: status, Detail: detail, Remedy: remedy}}
}

// humaProblem is how huma makes the errors that it finds itself, in the form
// of all others. Values are left out: they may be secrets.
func humaProblem(status int, message string, errs ...error) huma.StatusError {
	p := newProblem(status, http.StatusText(status), message, "")
	for _, err := range errs {
		var detail huma.ErrorDetailer
		if errors.As(err, &detail) {
			d := detail.ErrorDetail()
			field := d.Location
			for _, prefix := range []string{"body.", "query.", "path.", "header."} {
				field = strings.TrimPrefix(field, prefix)
			}
			p.Errors = append(p.Errors, model.FieldProblem{Field: field, Detail: validationWords(d.Message)})
		} else if err != nil {
			p.Errors = append(p.Errors, model.FieldProblem{Detail: err.Error()})
		}
	}
	if len(p.Errors) > 0 {
		p.Title = "The input is not right"
		p.Detail = p.Errors[0].Detail
		if p.Errors[0].Field != "" {
			p.Detail = p.Errors[0].Field + ": " + p.Detail
		}
	}
	return p
}

// validationTexts are the beginnings of the library's validation messages, with what people read instead; longer ones come first.
var validationTexts = [][2]string{
	{"expected number >= ", "must be at least "}, {"expected number <= ", "must be at most "},
	{"expected length >= ", "must have a length of at least "}, {"expected length <= ", "must have a length of at most "},
	{"expected array length >= ", "must have at least this many items: "}, {"expected array length <= ", "must have at most this many items: "},
	{"expected value to be one of ", "must be one of "}, {"expected required property ", "this is missing: "},
	{"expected ", "must be: "}, {"unexpected property", "is unknown here"},
}

// validationWords says a validation message of the library as a rule for the field.
func validationWords(message string) string {
	for _, t := range validationTexts {
		if rest, ok := strings.CutPrefix(message, t[0]); ok {
			return t[1] + strings.TrimSuffix(rest, " to be present")
		}
	}
	return message
}

// These are settings of the library as a whole; there is no other way to make them.
func init() {
	huma.NewError = humaProblem
	huma.DefaultArrayNullable = false // lists are empty, never absent
}
