package main

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"bridgespan/client"
	"bridgespan/core/mapping"
	"bridgespan/model"
)

// namespaceMappings writes the file itself to standard output, and what is to
// be known about it to standard error.
func namespaceMappings(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	if c.String("for") == "" {
		return listHandouts(ctx, c, api, args[0])
	}
	m, err := api.Mappings(ctx, args[0], model.AskMappings{For: c.String("for"), From: c.String("from"), Format: mapping.Format(c.String("format"))}, c.Bool("hand-out"))
	if err != nil {
		return err
	}
	if c.String("output") == "json" {
		return show(c, m, table{})
	}
	for _, closed := range m.Closed {
		fmt.Fprintln(c.Root().ErrWriter, "left out:", closed)
	}
	if m.Through != "" {
		fmt.Fprintf(c.Root().ErrWriter, "through the front %s: they stay right when a server behind a signpost changes\n", m.Through)
	}
	if m.Last != nil {
		fmt.Fprintf(c.Root().ErrWriter, "last handed out %s; changed since: %d\n", when(*m.Last), len(m.Changes))
	}
	for _, change := range m.Changes {
		fmt.Fprintln(c.Root().ErrWriter, "changed:", change)
	}
	_, err = fmt.Fprint(c.Root().Writer, m.Text)
	return err
}

func listHandouts(ctx context.Context, c *cli.Command, api *client.Client, name string) error {
	list, err := api.Handouts(ctx, name)
	if err != nil {
		return err
	}
	t := table{heads: []string{"for", "at", "handed out", "by", "changed since"}, empty: "Nothing was handed out yet. Begin with: bspan namespace mappings --for ACCOUNT --format batch --hand-out " + name}
	for _, h := range list {
		changes := h.Changes
		if h.Trouble != "" {
			changes = append(changes, "not known now: "+h.Trouble)
		}
		t.add(h.For, h.From, when(h.At), h.Who, strings.Join(changes, "; "))
	}
	return show(c, list, t)
}
