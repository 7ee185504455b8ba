package update

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"

	"bridgespan/tree"
	"bridgespan/tree/remote"
)

// An update is one HTTP request, POST /v1/update. Its body is the offer as a line of JSON (RFC 8259), followed by the program.

// mostOffer is how long the line of an offer may be.
const mostOffer = 16 << 10

// ServeHTTP receives an update of those who were let in already.
func (u *Updater) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body := bufio.NewReaderSize(r.Body, mostOffer)
	line, err := body.ReadSlice('\n')
	var o Offer
	if err == nil {
		err = json.Unmarshal(line, &o)
	}
	if err != nil {
		err = fmt.Errorf("%w: the offer cannot be read: %w", fs.ErrInvalid, err)
	} else {
		err = u.Receive(r.Context(), o, body)
	}
	remote.Reply(w, r, struct{}{}, classed(err))
}

// classed wraps errors in those that travel to the service.
func classed(err error) error {
	switch {
	case err == nil:
		return nil
	case errors.Is(err, ErrSignature), errors.Is(err, ErrKey), errors.Is(err, ErrOld):
		return fmt.Errorf("%w: %w", fs.ErrPermission, err)
	case errors.Is(err, ErrPlatform):
		return fmt.Errorf("%w: %w", tree.ErrUnsupported, err)
	}
	return err
}

// Sender sends a body to a mover, and reads its answer: POST of a path below /v1.
type Sender interface {
	PostStream(ctx context.Context, path []string, body io.Reader, answer any) error
}

// Send sends an offer and its program to a mover.
func Send(ctx context.Context, to Sender, o Offer, program io.Reader) error {
	line, err := json.Marshal(o)
	if err != nil {
		return err
	}
	var answer struct{}
	return to.PostStream(ctx, []string{"update"}, io.MultiReader(bytes.NewReader(append(line, '\n')), program), &answer)
}
