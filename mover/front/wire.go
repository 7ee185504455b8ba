package front

import (
	"context"
	"fmt"
	"io/fs"
	"net/http"

	"bridgespan/core/front"
	"bridgespan/tree/remote"
)

// Each call is one HTTP request, POST /v1/fronts/{share}/{call}, with a JSON body and answer. Errors are
// told as those of folders are.

// request is the body of a call.
type request struct {
	Note    string         `json:"note,omitempty"`
	Changes []front.Change `json:"changes,omitempty"`
}

// reply is the body of an answer.
type reply struct {
	Folder    string      `json:"folder,omitempty"` // of the front, on the host
	Found     *Found      `json:"found,omitempty"`
	Offer     *Offer      `json:"offer,omitempty"`
	Failed    []Outcome   `json:"failed,omitempty"`
	Connected []Connected `json:"connected,omitempty"`
	// Started is another word after each start of the mover.
	Started string `json:"started,omitempty"`
}

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
		remote.Reply(w, r, answer, err)
	})
	return mux
}

func serve(k *Keeper, r *http.Request) (reply, error) {
	call, share := calls[r.PathValue("call")], r.PathValue("share")
	if k == nil {
		return reply{}, errNoFronts
	}
	if call == nil {
		return reply{}, fmt.Errorf("%w: no call %q", fs.ErrInvalid, r.PathValue("call"))
	}
	if err := CheckShare(share); err != nil {
		return reply{}, fmt.Errorf("%w: %w", fs.ErrInvalid, err)
	}
	var asked request
	if err := remote.Decode(r, mostBody, &asked); err != nil {
		return reply{}, err
	}
	return call(k, r.Context(), share, asked)
}
