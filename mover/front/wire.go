package front

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"

	"bridgespan/core/front"
)

// Each call is one HTTP request, POST /v1/fronts/{share}/{call}, with a JSON body and answer.

// request is the body of a call.
type request struct {
	Note    string         `json:"note,omitempty"`
	Changes []front.Change `json:"changes,omitempty"`
}

// reply is the body of an answer.
type reply struct {
	Error     *failure    `json:"error,omitempty"`
	Folder    string      `json:"folder,omitempty"` // of the front, on the host
	Found     *Found      `json:"found,omitempty"`
	Offer     *Offer      `json:"offer,omitempty"`
	Failed    []Outcome   `json:"failed,omitempty"`
	Connected []Connected `json:"connected,omitempty"`
	// Started is another word after each start of the mover.
	Started string `json:"started,omitempty"`
}

type failure struct {
	Kind string `json:"kind"`
	Text string `json:"text"`
}

// Kinds of errors that are told apart on both sides.
var kinds = map[string]error{"no-fronts": ErrNoFronts, "exists": fs.ErrExist, "missing": fs.ErrNotExist, "refused": fs.ErrPermission, "invalid": fs.ErrInvalid, "within": errWithin, "not-offered": errNotOffered}

// mostBody is how long a call or an answer may be.
const mostBody = 64 << 20

// Calls of a keeper.
var calls = map[string]func(*Keeper, context.Context, string, request) (reply, error){
	"hello": func(k *Keeper, _ context.Context, _ string, _ request) (reply, error) {
		return reply{Started: k.started}, nil
	},
	"look": func(k *Keeper, ctx context.Context, share string, _ request) (reply, error) {
		found, err := k.Look(ctx, share)
		return reply{Found: &found, Folder: k.Path(share)}, err
	},
	"offered": func(k *Keeper, ctx context.Context, share string, _ request) (reply, error) {
		o, err := k.Offered(ctx, share)
		return reply{Offer: &o, Folder: k.Path(share)}, err
	},
	"connected": func(k *Keeper, ctx context.Context, share string, _ request) (reply, error) {
		list, err := k.Connected(ctx, share)
		return reply{Connected: list}, err
	},
	"make": func(k *Keeper, ctx context.Context, share string, _ request) (reply, error) {
		return reply{}, k.Make(ctx, share)
	},
	"offer": func(k *Keeper, ctx context.Context, share string, r request) (reply, error) {
		o, err := k.Offer(ctx, share, r.Note)
		return reply{Offer: &o}, err
	},
	"withdraw": func(k *Keeper, ctx context.Context, share string, _ request) (reply, error) {
		return reply{}, k.Withdraw(ctx, share)
	},
	"write": func(k *Keeper, ctx context.Context, share string, r request) (reply, error) {
		if err := CheckChanges(r.Changes); err != nil {
			return reply{}, err
		}
		failed, err := k.Write(ctx, share, r.Changes)
		return reply{Failed: failed}, err
	},
	"clear": func(k *Keeper, ctx context.Context, share string, _ request) (reply, error) {
		failed, err := k.Clear(ctx, share)
		return reply{Failed: failed}, err
	},
}

// Handler answers the calls of those who were let in already. A nil keeper keeps no fronts.
func Handler(k *Keeper) http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("POST /v1/fronts/{share}/{call}", func(w http.ResponseWriter, r *http.Request) {
		answer, err := serve(k, r)
		if err != nil {
			answer = reply{Error: &failure{Text: err.Error()}}
			for kind, known := range kinds {
				if errors.Is(err, known) {
					answer.Error.Kind = kind
				}
			}
			slog.Warn("a front's call failed", "share", r.PathValue("share"), "call", r.PathValue("call"), "error", err)
		}
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(answer)
	})
	return mux
}

func serve(k *Keeper, r *http.Request) (reply, error) {
	call, share := calls[r.PathValue("call")], r.PathValue("share")
	if k == nil {
		return reply{}, ErrNoFronts
	}
	if call == nil {
		return reply{}, fmt.Errorf("%w: no call %q", fs.ErrInvalid, r.PathValue("call"))
	}
	if err := CheckShare(share); err != nil {
		return reply{}, fmt.Errorf("%w: %w", fs.ErrInvalid, err)
	}
	var asked request
	if err := json.NewDecoder(io.LimitReader(r.Body, mostBody)).Decode(&asked); err != nil {
		return reply{}, fmt.Errorf("%w: the call cannot be read: %w", fs.ErrInvalid, err)
	}
	return call(k, r.Context(), share, asked)
}

// Caller sends a body to a mover, and reads its answer: POST of a path below /v1.
type Caller interface {
	Post(ctx context.Context, path []string, body, answer any) error
}

// Client is the front of one share at a mover.
type Client struct {
	Caller
	Share string
}

func (c Client) call(ctx context.Context, what string, r request) (a reply, err error) {
	if err := c.Post(ctx, []string{"fronts", c.Share, what}, r, &a); err != nil {
		return a, err
	}
	if a.Error != nil {
		return a, &told{a.Error.Text, kinds[a.Error.Kind]}
	}
	return a, nil
}

// told is an error of a mover, with its words.
type told struct {
	text string
	kind error
}

func (t *told) Error() string { return t.text }
func (t *told) Unwrap() error { return t.kind }

// Hello asks whether the mover is there. Its answer is another one once the mover was started anew.
func (c Client) Hello(ctx context.Context) (string, error) {
	a, err := c.call(ctx, "hello", request{})
	return a.Started, err
}

// Look reads what stands in the folder of the front.
func (c Client) Look(ctx context.Context) (Found, string, error) {
	a, err := c.call(ctx, "look", request{})
	if err != nil || a.Found == nil {
		return Found{}, a.Folder, err
	}
	return *a.Found, a.Folder, nil
}

// Offered tells how the front's share stands at the file service.
func (c Client) Offered(ctx context.Context) (Offer, string, error) {
	a, err := c.call(ctx, "offered", request{})
	if err != nil || a.Offer == nil {
		return Offer{}, a.Folder, err
	}
	return *a.Offer, a.Folder, nil
}

// Connected tells who has the share open.
func (c Client) Connected(ctx context.Context) ([]Connected, error) {
	a, err := c.call(ctx, "connected", request{})
	return a.Connected, err
}

// Make makes the folder of the front.
func (c Client) Make(ctx context.Context) error {
	_, err := c.call(ctx, "make", request{})
	return err
}

// Offer lets the file service offer the share.
func (c Client) Offer(ctx context.Context, note string) error {
	_, err := c.call(ctx, "offer", request{Note: note})
	return err
}

// Withdraw takes the share away from the file service.
func (c Client) Withdraw(ctx context.Context) error {
	_, err := c.call(ctx, "withdraw", request{})
	return err
}

// Write does changes, and tells which could not be done.
func (c Client) Write(ctx context.Context, changes []front.Change) ([]Outcome, error) {
	a, err := c.call(ctx, "write", request{Changes: changes})
	return a.Failed, err
}

// Clear takes away all that was made of the front.
func (c Client) Clear(ctx context.Context) ([]Outcome, error) {
	a, err := c.call(ctx, "clear", request{})
	return a.Failed, err
}

// Open makes a keeper ready.
func Open(folder, state, configuration string) (*Keeper, error) {
	full, err := filepath.Abs(folder)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(full, 0o755); err != nil {
		return nil, err
	}
	if err := os.Chmod(full, 0o755); err != nil { // past the mask: people walk through it
		return nil, err
	}
	if _, err := os.Stat(configuration); err != nil {
		return nil, fmt.Errorf("the configuration of the file service: %w", err)
	}
	return &Keeper{Folder: full, State: state, Service: Service{configuration}, started: rand.Text()}, nil
}
