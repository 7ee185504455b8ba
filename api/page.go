package api

import (
	"context"
	"encoding/base64"

	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/records"
)

// PageIn asks for one part of a list.
type PageIn struct {
	Cursor string `query:"cursor" doc:"Where the part begins: next of the part before"`
	Limit  int    `query:"limit" minimum:"1" maximum:"10000" default:"200" doc:"How many items at most"`
}

// page decodes the cursor: the key of the last item seen.
func (p PageIn) page() (records.Page, error) {
	after, err := base64.RawURLEncoding.DecodeString(p.Cursor)
	if err != nil {
		return records.Page{}, fault.Field("cursor", "use next of the part before, unchanged", "this is not a cursor of this service")
	}
	return records.Page{After: string(after), Limit: p.Limit + 1}, nil
}

// paged serves one part of a list; name gives what the list is ordered by. One
// item more than asked for is read, to know whether there is a next part.
func paged[T any](in *PageIn, list func(context.Context, records.Page) ([]T, error), name func(T) string) func(context.Context) (*body[model.Page[T]], error) {
	return func(ctx context.Context) (*body[model.Page[T]], error) {
		page, err := in.page()
		if err != nil {
			return nil, err
		}
		items, err := list(ctx, page)
		if err != nil {
			return nil, err
		}
		out := model.Page[T]{Items: items}
		if len(items) > in.Limit {
			out.Items = items[:in.Limit]
			out.Next = base64.RawURLEncoding.EncodeToString([]byte(namespace.Key(name(items[in.Limit-1]))))
		}
		return &body[model.Page[T]]{out}, nil
	}
}
