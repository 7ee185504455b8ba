package api

import (
	"context"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"bridgespan/core/fault"
	"bridgespan/model"
	"bridgespan/records"
)

type rehearseKey struct{}

// rehearsed is the answer to a rehearsal. It travels as an error does, in place
// of the answer that the operation would have given.
type rehearsed struct{ model.Rehearsed }

func (*rehearsed) Error() string             { return "rehearsed" }
func (*rehearsed) GetStatus() int            { return http.StatusOK }
func (*rehearsed) ContentType(string) string { return "application/json" }

// change registers an operation that changes records alone, and so can be
// rehearsed: it is carried out whole, and taken back.
func change[I, O any](a *API, role model.Role, op huma.Operation, handler func(context.Context, *I) (*O, error)) {
	op.Parameters = append(op.Parameters, &huma.Param{Name: "rehearse", In: "query", Description: "Change nothing, and answer 200 with what would be changed (Rehearsed)", Schema: &huma.Schema{Type: huma.TypeBoolean}})
	op.Middlewares = append(op.Middlewares, func(c huma.Context, next func(huma.Context)) {
		switch asked := c.Query("rehearse"); asked {
		case "", "false":
			next(c)
		case "true":
			next(huma.WithValue(c, rehearseKey{}, true))
		default: // who misspells it must not find it done
			a.refuse(c, fault.Field("rehearse", "write true or false", "%q is neither true nor false", asked))
		}
	})
	route(a, role, op, func(ctx context.Context, in *I) (*O, error) {
		if ctx.Value(rehearseKey{}) == nil {
			return handler(ctx, in)
		}
		ctx, r := records.Rehearse(ctx)
		_, err := handler(ctx, in)
		// What is read after the change is as it was before: that is no failure.
		if changes := r.Changes(); len(changes) > 0 || err == nil {
			return nil, &rehearsed{model.Rehearsed{Rehearsed: true, Changes: append([]model.Change{}, changes...)}}
		}
		return nil, err
	})
}

// onlyRehearsable refuses to rehearse what cannot be: it would be done.
func (a *API) onlyRehearsable(c huma.Context, next func(huma.Context)) {
	known := slices.ContainsFunc(c.Operation().Parameters, func(p *huma.Param) bool { return p.Name == "rehearse" })
	if changes(c.Method()) && c.Query("rehearse") != "" && !known {
		a.refuse(c, fault.Field("rehearse", "leave it out to do it", "this cannot be rehearsed"))
		return
	}
	next(c)
}
