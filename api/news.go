package api

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"

	"bridgespan/core/fault"
	"bridgespan/guard"
	"bridgespan/model"
	"bridgespan/service/access"
	"bridgespan/service/events"
)

// about is what the console shows of the service itself.
type about struct {
	Version string `json:"version" doc:"Version of the service"`
	Gateway string `json:"gateway,omitempty" doc:"Where people reach the namespaces over WebDAV"`
}

func (a *API) newsRoutes() {
	route(a, model.Viewer, huma.Operation{OperationID: "get-about", Method: "GET", Path: "/about", Summary: "The service itself", Tags: []string{"Service"}},
		func(context.Context, *none) (*body[about], error) {
			return &body[about]{about{a.Version, a.Gateway}}, nil
		})
	route(a, model.Viewer, huma.Operation{OperationID: "list-changes", Method: "GET", Path: "/changes", Summary: "Who changed what, newest first", Tags: []string{"Service"}}, a.changes)
	a.app.Get(Prefix+"/events", a.stream)
	a.huma.OpenAPI().AddOperation(&huma.Operation{
		OperationID: "watch-events", Method: "GET", Path: Prefix + "/events", Summary: "Hear of changes as they happen", Tags: []string{"Service"},
		Description: "Server-sent events; each carries an Event as JSON. The topic reset means that something was missed: read everything again. Send Last-Event-ID to go on where a broken stream ended. Needs the role viewer.",
		Security:    []map[string][]string{{"token": {}}, {"session": {}}},
		Responses:   map[string]*huma.Response{"200": {Description: "OK", Content: map[string]*huma.MediaType{"text/event-stream": {Schema: &huma.Schema{Type: "string"}}}}},
	})
}

func (a *API) changes(ctx context.Context, in *struct {
	Cursor int64 `query:"cursor" minimum:"0" maximum:"9007199254740991" doc:"Where the part begins: next of the part before"`
	Limit  int   `query:"limit" minimum:"1" maximum:"1000" default:"100" doc:"How many items at most"`
}) (*body[model.Page[model.Change]], error) {
	changes, err := a.History.Changes(ctx, in.Cursor, in.Limit+1)
	if err != nil {
		return nil, err
	}
	out := model.Page[model.Change]{Items: changes}
	if len(changes) > in.Limit {
		out.Items = changes[:in.Limit]
		out.Next = strconv.FormatInt(out.Items[in.Limit-1].ID, 10)
	}
	return &body[model.Page[model.Change]]{out}, nil
}

// heartbeat keeps an idle stream from being cut, and finds watchers that are gone.
const heartbeat = 15 * time.Second

// stream sends events to one watcher until either side leaves.
func (a *API) stream(c fiber.Ctx) error {
	if err := access.Require(c.Context(), model.Viewer); err != nil {
		return err
	}
	secret, _ := credentialOf(c)
	after, _ := strconv.ParseInt(c.Get("Last-Event-ID"), 10, 64)
	c.Set("Content-Type", "text/event-stream")
	c.Set("X-Accel-Buffering", "no")
	watcher := a.Events.Watch(after)
	return c.SendStreamWriter(func(w *bufio.Writer) {
		_ = guard.Do(func() { a.tell(w, watcher, secret) })
	})
}

// ended reports whether a credential is good no longer.
func (a *API) ended(secret string) bool {
	ctx, cancel := context.WithTimeout(context.Background(), heartbeat)
	defer cancel()
	_, _, err := a.Access.HolderNow(ctx, secret)
	return fault.KindOf(err) == fault.SignIn
}

// tell writes news until nobody reads them any more, or their reader may not.
func (a *API) tell(w *bufio.Writer, watcher *events.Watcher, secret string) {
	defer watcher.Close()
	beat := time.NewTicker(heartbeat)
	defer beat.Stop()
	fmt.Fprint(w, "retry: 1000\n: hello\n\n")
	for w.Flush() == nil {
		select {
		case <-a.Closing:
			return
		case <-beat.C:
			if a.ended(secret) {
				return
			}
			fmt.Fprint(w, ": still here\n\n")
		case e := <-watcher.C:
			// Sessions, tokens and roles end with news of this topic.
			if e.Topic == "user" && a.ended(secret) {
				return
			}
			text, err := json.Marshal(e)
			if err != nil {
				return
			}
			fmt.Fprintf(w, "id: %d\ndata: %s\n\n", e.ID, text)
		}
	}
}
