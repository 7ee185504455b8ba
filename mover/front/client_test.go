package front_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"bridgespan/mover/front"
	"bridgespan/tree"
)

// says is a mover that answers each call with a text.
type says string

func (s says) Post(_ context.Context, _ []string, _, answer any) error {
	return json.Unmarshal([]byte(s), answer)
}

func (s says) Distrust(format string, args ...any) error {
	return fmt.Errorf("%w: "+format, append([]any{tree.ErrUntrusted}, args...)...)
}

// What no mover sends is not taken.
func TestDistrust(t *testing.T) {
	ctx := t.Context()
	for name, c := range map[string]struct {
		answer string
		call   func(front.Client) error
	}{
		"a path out of the front": {`{"found":{"entries":[{"path":"../a"}]}}`, look},
		"a path from the root":    {`{"found":{"entries":[{"path":"/a"}]}}`, look},
		"no path":                 {`{"found":{"entries":[{"path":""}]}}`, look},
		"many foreign names":      {`{"found":{"entries":[],"foreign":[` + many(`"a"`, 21) + `]}}`, look},
		"endless places":          {`{"found":{"entries":[{"path":"a","to":[` + many(`"a"`, 5000) + `]}]}}`, look},
		"many lines":              {`{"offer":{"missing":[` + many(`"a"`, 101) + `]}}`, offered},
		"many shares":             {`{"offer":{"shares":[` + many(`{}`, 100_001) + `]}}`, offered},
		"many people":             {`{"connected":[` + many(`{}`, 501) + `]}`, func(c front.Client) error { _, err := c.Connected(ctx); return err }},
		"more failures than changes": {`{"failed":[{},{}]}`, func(c front.Client) error {
			_, err := c.Write(ctx, []change{gone("a")})
			return err
		}},
	} {
		if err := c.call(front.Client{Caller: says(c.answer), Share: "trust"}); !errors.Is(err, tree.ErrUntrusted) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func look(c front.Client) error { _, _, err := c.Look(context.Background()); return err }

func offered(c front.Client) error { _, _, err := c.Offered(context.Background()); return err }

func many(what string, times int) string {
	return strings.Join(slices.Repeat([]string{what}, times), ",")
}

// Texts of a mover are shown to people: without what moves their screens, and short.
func TestTextsAreClean(t *testing.T) {
	c := front.Client{Caller: says(`{"found":{"entries":[],"foreign":["a\u001b[2Jb"],"there":true},"offer":{"service":"x\u202ey","missing":["` + strings.Repeat("l", 2000) + `"]},"connected":[{"person":"a\u0000da"}]}`), Share: "trust"}
	found, _, err := c.Look(t.Context())
	if err != nil || !slices.Equal(found.Foreign, []string{"a[2Jb"}) {
		t.Errorf("foreign are %q, %v", found.Foreign, err)
	}
	offer, _, err := c.Offered(t.Context())
	if err != nil || offer.Service != "xy" || len(offer.Missing[0]) != 1000 {
		t.Errorf("it offers as %q, with a line of %d bytes, %v", offer.Service, len(offer.Missing[0]), err)
	}
	people, err := c.Connected(t.Context())
	if err != nil || people[0].Person != "ada" {
		t.Errorf("connected are %+v, %v", people, err)
	}
}
