package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"regexp"
	"strings"

	"github.com/urfave/cli/v3"
	"go.yaml.in/yaml/v3"

	"bridgespan/client"
	"bridgespan/core/namespace"
	"bridgespan/model"
)

func applyCommand() *cli.Command {
	return &cli.Command{Name: "apply", Usage: "make a namespace what a document says, all of it or nothing; no file is touched", ArgsUsage: "FILE",
		Description: "FILE is YAML as written by: bspan export NAME. Write - to read it from standard input.",
		Flags: []cli.Flag{&cli.BoolFlag{Name: "rehearse", Usage: "only tell what would change"},
			&cli.StringFlag{Name: "fingerprint", Usage: "do it only if nothing changed since the rehearsal that printed this `TEXT`"}},
		Action: signedIn(applyDocument, "FILE")}
}

func exportCommand() *cli.Command {
	return &cli.Command{Name: "export", Usage: "write a whole namespace as YAML, to be kept and applied", ArgsUsage: "NAME",
		Flags: []cli.Flag{&cli.Int64Flag{Name: "as-of", Usage: "as it was right after this `CHANGE`"}},
		Action: signedIn(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
			d, err := api.Export(ctx, args[0], c.Int64("as-of"))
			if err != nil {
				return err
			}
			if c.String("output") == "json" {
				return show(c, d, table{})
			}
			e := yaml.NewEncoder(c.Root().Writer)
			e.SetIndent(2)
			return e.Encode(d.Brief())
		}, "NAME")}
}

// mostDocument bounds what is read of a document.
const mostDocument = 64 << 20

func applyDocument(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	d, err := readDocument(args[0])
	if err != nil {
		return err
	}
	a, err := api.Apply(ctx, d, c.String("fingerprint"), c.Bool("rehearse"))
	var refused *client.Error
	if errors.As(err, &refused) && len(refused.Errors) > 0 {
		return fmt.Errorf("%s, at %s: %w", args[0], refused.Errors[0].Field, err)
	}
	if err != nil {
		return err
	}
	return show(c, a, applicationTable(a, "bspan apply --fingerprint "+a.Fingerprint+" "+args[0]))
}

func readDocument(file string) (d namespace.Document, err error) {
	in := io.Reader(os.Stdin)
	if file != "-" {
		f, err := os.Open(file)
		if err != nil {
			return d, usageError{fmt.Sprintf("FILE cannot be read: %v", err)}
		}
		defer f.Close()
		in = f
	}
	text, err := io.ReadAll(io.LimitReader(in, mostDocument+1))
	if err != nil {
		return d, err
	}
	if len(text) > mostDocument {
		return d, usageError{fmt.Sprintf("%s has more than %d MiB", file, mostDocument>>20)}
	}
	return parseDocument(file, text)
}

// parseDocument reads YAML; what it does not know is named with its line.
func parseDocument(file string, text []byte) (d namespace.Document, err error) {
	decoder := yaml.NewDecoder(bytes.NewReader(text))
	decoder.KnownFields(true)
	err = decoder.Decode(&d)
	var unknown *yaml.TypeError
	switch {
	case errors.As(err, &unknown):
		var lines []string
		for _, e := range unknown.Errors {
			lines = append(lines, plainYAML(e))
		}
		return d, usageError{fmt.Sprintf("%s: %s; the fields are in: bspan export NAME, and in the schema of the API", file, strings.Join(lines, "; "))}
	case errors.Is(err, io.EOF):
		return d, usageError{file + " is empty: write one with: bspan export NAME"}
	case err != nil:
		return d, usageError{fmt.Sprintf("%s: %s", file, strings.TrimPrefix(err.Error(), "yaml: "))}
	}
	if err := decoder.Decode(new(yaml.Node)); !errors.Is(err, io.EOF) {
		return d, usageError{file + ": there is more than one document; apply them one by one"}
	}
	return d, nil
}

var unknownField = regexp.MustCompile(`^line (\d+): field (\S+) not found in type .*$`)

// plainYAML puts what the YAML package says in words for people.
func plainYAML(text string) string {
	if m := unknownField.FindStringSubmatch(text); m != nil {
		return fmt.Sprintf("line %s: there is no field %q here", m[1], m[2])
	}
	return text
}

func applicationTable(a model.Application, again string) table {
	t := table{heads: []string{"", "step"}, empty: "Nothing changes: the namespace " + a.Namespace + " is so already."}
	for _, s := range a.Settings {
		t.add(fmt.Sprint(len(t.rows)+1), s)
	}
	for _, s := range a.Steps {
		t.add(fmt.Sprint(len(t.rows)+1), s.Text)
	}
	switch n := len(t.rows); {
	case n == 0:
	case a.Rehearsed:
		t.after = fmt.Sprintf("Rehearsed only: nothing was changed. To do exactly this: %s", again)
	default:
		t.after = fmt.Sprintf("All %d done; no file was touched.", n)
	}
	return t
}

// namespaceHistory lists what was changed, or returns to how it was.
func namespaceHistory(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	if !c.IsSet("return-to") {
		changes, err := api.History(ctx, args[0], c.Int("limit"))
		if err != nil {
			return err
		}
		t := table{heads: []string{"change", "when", "who", "what", "of", "differs"}, empty: "Nothing was changed yet."}
		for _, change := range changes {
			t.add(fmt.Sprint(change.ID), when(change.At), change.Who, change.Action, change.Subject, strings.Join(change.Words, "; "))
		}
		t.after = "To see it as it was after a change: bspan export --as-of CHANGE " + args[0] + "\nTo return to that: bspan namespace history --return-to CHANGE --rehearse " + args[0]
		return show(c, changes, t)
	}
	to := c.Int64("return-to")
	a, err := api.Return(ctx, args[0], to, c.String("fingerprint"), c.Bool("rehearse"))
	if err != nil {
		return err
	}
	return show(c, a, applicationTable(a, fmt.Sprintf("bspan namespace history --return-to %d --fingerprint %s %s", to, a.Fingerprint, args[0])))
}
