package edge

import (
	"context"
	"fmt"
	"io/fs"
	"net/http"
	"time"

	"bridgespan/tree"
	"bridgespan/tree/remote"
)

// Each call is one HTTP request, POST /v1/edges/{folder}/{call}, with a JSON body and answer. Errors are
// told as those of folders are.

// request is the body of a call.
type request struct {
	Sub      string    `json:"sub,omitempty"` // the edge, in the served folder
	Settings *Settings `json:"settings,omitempty"`
}

// mostBody is how long a call may be: certificates are the longest part.
const mostBody = 1 << 20

// Handler answers the calls of those who were let in already.
func Handler(k *Keeper) http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("POST /v1/edges/{folder}/{call}", func(w http.ResponseWriter, r *http.Request) {
		status, err := k.serve(r)
		remote.Reply(w, r, status, err)
	})
	mux.HandleFunc("POST /v1/edges/reach", func(w http.ResponseWriter, r *http.Request) {
		var b Bucket
		err := remote.Decode(r, mostBody, &b)
		var found Reached
		if err == nil {
			found, err = k.reach(r.Context(), b)
		}
		remote.Reply(w, r, found, err)
	})
	return mux
}

// Reached is how a mover reaches a bucket.
type Reached struct {
	Delay time.Duration `json:"delay"`           // of one request on an open connection
	Proxy string        `json:"proxy,omitempty"` // through which it goes; "" is none
}

// reach opens a bucket as an edge does, and times a request.
func (k *Keeper) reach(ctx context.Context, b Bucket) (r Reached, err error) {
	b = k.through(b)
	r.Proxy = b.Proxy
	source, err := b.open(ctx)
	if err != nil {
		return r, err
	}
	defer source.Close()
	r.Delay, err = source.Ping(ctx)
	return r, err
}

func (k *Keeper) serve(r *http.Request) (s Status, err error) {
	var asked request
	if err := remote.Decode(r, mostBody, &asked); err != nil {
		return s, err
	}
	folder := r.PathValue("folder")
	switch r.PathValue("call") {
	case "look":
	case "set":
		if asked.Settings == nil {
			return s, fmt.Errorf("%w: settings are missing", fs.ErrInvalid)
		}
		err = k.Set(r.Context(), folder, asked.Sub, *asked.Settings)
	case "remove":
		err = k.Remove(folder, asked.Sub)
	default:
		err = fmt.Errorf("%w: no call %q", tree.ErrUnsupported, r.PathValue("call"))
	}
	if err != nil {
		return s, err
	}
	return k.Look(folder, asked.Sub)
}

// Caller sends a body to a mover, and reads its answer: POST of a path below /v1.
type Caller interface {
	Post(ctx context.Context, path []string, body, answer any) error
}

// Reach has a mover open a bucket.
func Reach(ctx context.Context, c Caller, b Bucket) (r Reached, err error) {
	err = c.Post(ctx, []string{"edges", "reach"}, b, &r)
	return r, err
}

// Client is an edge at a mover.
type Client struct {
	Caller
	Folder, Sub string
}

func (c Client) call(ctx context.Context, what string, r request) (s Status, err error) {
	r.Sub = c.Sub
	err = c.Post(ctx, []string{"edges", c.Folder, what}, r, &s)
	return s, err
}

// Look tells how the edge is, or whether the folder could become one.
func (c Client) Look(ctx context.Context) (Status, error) { return c.call(ctx, "look", request{}) }

// Set makes an edge of the folder, or changes it.
func (c Client) Set(ctx context.Context, s Settings) (Status, error) {
	return c.call(ctx, "set", request{Settings: &s})
}

// Remove ends the edge.
func (c Client) Remove(ctx context.Context) error {
	_, err := c.call(ctx, "remove", request{})
	return err
}
