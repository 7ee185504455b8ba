package main

import (
	"fmt"
	"html"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"bridgespan/demo"
)

// terminal runs commands of the command line against the demo and returns a
// page that shows them with what they print.
func terminal(estate demo.Estate) (string, error) {
	home, err := os.MkdirTemp("", "bspan-shots-")
	if err != nil {
		return "", err
	}
	defer os.RemoveAll(home)
	bspan := func(args ...string) (string, error) {
		cmd := exec.Command("bin/bspan", args...)
		cmd.Env = append(os.Environ(), "XDG_CONFIG_HOME="+home, "BSPAN_PASSWORD="+estate.Password)
		out, err := cmd.CombinedOutput()
		return string(out), err
	}
	if out, err := bspan("--server", estate.Console, "login", "--name", estate.User); err != nil {
		return "", fmt.Errorf("%w: %s", err, out)
	}
	var page strings.Builder
	for _, args := range [][]string{
		{"server", "check", "fern"},
		{"namespace", "tree", "trust"},
		{"rights", "--as", "ivy.marsh", "fern/herbarium/Retouched"},
		{"where", "/trust/education/Courses", "--from", "Tern Island"},
	} {
		out, err := bspan(args...)
		if err != nil {
			return "", fmt.Errorf("%v: %w: %s", args, err, out)
		}
		line := strings.Join(args, " ")
		line = strings.Replace(line, "Tern Island", `"Tern Island"`, 1)
		fmt.Fprintf(&page, "<b>$ bspan %s</b>\n%s\n", html.EscapeString(line), html.EscapeString(out))
	}
	return "data:text/html;charset=utf-8," + url.PathEscape("<!doctype html><title>bspan</title><body style='margin:0;background:#17212a;color:#e8e5dc'><pre style='margin:24px;font:12.5px/1.35 monospace'>"+page.String()+"</pre>"), nil
}

// shotTerminal takes the picture of the command line.
func shotTerminal(t tab, estate demo.Estate, folder string) error {
	page, err := terminal(estate)
	if err != nil {
		return err
	}
	if err := t.Open(page); err != nil {
		return err
	}
	return t.Shot(filepath.Join(folder, "command-line.png"))
}

type tab interface {
	Open(address string) error
	Shot(file string) error
}
