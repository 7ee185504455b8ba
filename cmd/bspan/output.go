package main

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"strconv"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/urfave/cli/v3"

	"bridgespan/core/text"
)

func checkOutput(format string) error {
	switch format {
	case "table", "json", "csv":
		return nil
	}
	return fmt.Errorf("output %q is none of table, json, csv", format)
}

// table is what a command shows to people and to spreadsheets.
type table struct {
	heads []string
	rows  [][]string
	empty string // said when there are no rows
	after string // said below the rows, to people alone
}

func (t *table) add(cells ...string) { t.rows = append(t.rows, cells) }

// show writes value as JSON, or t as a table or CSV, as --output asks.
func show(c *cli.Command, value any, t table) error {
	w := c.Root().Writer
	switch c.String("output") {
	case "json":
		encoder := json.NewEncoder(w)
		encoder.SetIndent("", "  ")
		return encoder.Encode(value)
	case "csv":
		records := csv.NewWriter(w)
		_ = records.Write(t.heads)
		for _, row := range t.rows {
			_ = records.Write(text.Cells(row))
		}
		records.Flush()
		return records.Error()
	}
	return t.write(w)
}

func (t *table) write(out io.Writer) error {
	if len(t.rows) == 0 && t.empty != "" {
		_, err := fmt.Fprintln(out, t.empty)
		return err
	}
	w := tabwriter.NewWriter(out, 0, 0, 2, ' ', 0)
	if len(t.heads) > 0 {
		fmt.Fprintln(w, strings.ToUpper(strings.Join(t.heads, "\t")))
	}
	for _, row := range t.rows {
		fmt.Fprintln(w, strings.Join(row, "\t"))
	}
	if err := w.Flush(); err != nil || t.after == "" {
		return err
	}
	_, err := fmt.Fprintln(out, "\n"+t.after)
	return err
}

// done says that something was done: a sentence for people, an object for programs.
func done(c *cli.Command, value any, format string, args ...any) error {
	text := fmt.Sprintf(format, args...)
	if value == nil {
		value = map[string]string{"done": text}
	}
	t := table{rows: [][]string{{text}}}
	if c.String("output") == "csv" {
		t.heads = []string{"done"}
	}
	return show(c, value, t)
}

func when(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.Local().Format("2006-01-02 15:04:05")
}

// onNumber reads the number of something that a command lists.
func onNumber(text, list string, do func(id int64) error) error {
	id, err := strconv.ParseInt(text, 10, 64)
	if err != nil || id < 1 {
		return usageError{fmt.Sprintf("%q is not a number from the list; list them with: bspan %s", text, list)}
	}
	return do(id)
}
