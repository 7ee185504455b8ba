package main

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"bridgespan/client"
	"bridgespan/model"
)

// foretold is the answer to a rehearsal of other settings, with what follows
// from them.
type foretold struct {
	*client.Rehearsed
	preview model.SettingsPreview
}

func (f *foretold) Unwrap() error { return f.Rehearsed }

// foretell adds to the answer to a rehearsal what follows from other settings of
// a set; other errors stay as they are.
func foretell(ctx context.Context, api *client.Client, set string, change model.SettingsChange, err error) error {
	told := new(client.Rehearsed)
	if !errors.As(err, &told) {
		return err
	}
	p, bad := api.PreviewSettings(ctx, set, change)
	if bad != nil {
		return bad
	}
	return &foretold{told, p}
}

// rehearsedWith is what a rehearsal shows as JSON when more is told than what
// would be changed.
type rehearsedWith struct {
	model.Rehearsed
	Preview model.SettingsPreview `json:"preview"`
}

// previewLines are what follows, and the checks that somebody has to look at.
func previewLines(p model.SettingsPreview) string {
	lines := []string{"What follows:"}
	for _, f := range p.Follows {
		lines = append(lines, "  "+f)
	}
	for _, l := range p.Checks {
		if l.Outcome != model.Pass {
			lines = append(lines, fmt.Sprintf("%s %s: %s. %s: %s.", strings.ToUpper(string(l.Outcome)), l.Name, l.Found, capital(l.Means), l.Remedy))
		}
	}
	return strings.Join(lines, "\n") + "\n"
}
