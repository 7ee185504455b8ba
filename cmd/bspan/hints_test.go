package main

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/urfave/cli/v3"
)

// textOf is what an expression of strings says; what is only known later is X.
func textOf(e ast.Expr) (text string, ok bool) {
	switch e := e.(type) {
	case *ast.BasicLit:
		if e.Kind != token.STRING {
			return "X", false
		}
		text, err := strconv.Unquote(e.Value)
		return text, err == nil
	case *ast.BinaryExpr:
		left, a := textOf(e.X)
		right, b := textOf(e.Y)
		return left + right, a || b
	}
	return "X", false
}

var (
	hint  = regexp.MustCompile(`(?:^|[^.\w-])bspan ([a-z][^;:.,)\n"]*)`)
	later = regexp.MustCompile(`%[a-z]`)
)

// Every command that is suggested anywhere exists, with its flags.
func TestHints(t *testing.T) {
	app := newApp()
	seen := 0
	err := filepath.WalkDir("../..", func(name string, d fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case d.IsDir() && (d.Name() == "node_modules" || d.Name() == "var" || d.Name() == ".git"):
			return filepath.SkipDir
		case d.IsDir() || filepath.Ext(name) != ".go" || strings.HasSuffix(name, "_test.go"):
			return nil
		}
		set := token.NewFileSet()
		file, err := parser.ParseFile(set, name, nil, parser.SkipObjectResolution)
		if err != nil {
			return err
		}
		ast.Inspect(file, func(n ast.Node) bool {
			e, ok := n.(ast.Expr)
			if !ok {
				return true
			}
			text, ok := textOf(e)
			if !ok {
				return true
			}
			for _, m := range hint.FindAllStringSubmatch(later.ReplaceAllString(text, "X"), -1) {
				if strings.HasPrefix(m[1], "on ") { // the label of a token
					continue
				}
				seen++
				if wrong := wrongHint(app, strings.Fields(m[1])); wrong != "" {
					t.Errorf("%s: bspan %s: %s", set.Position(e.Pos()), m[1], wrong)
				}
			}
			return false
		})
		return nil
	})
	if err != nil || seen < 40 {
		t.Errorf("%d hints were found: %v", seen, err)
	}
}

// wrongHint says what is wrong with a command that is suggested; "" when nothing is.
func wrongHint(app *cli.Command, words []string) string {
	at := app
	for len(words) > 0 {
		next := at.Command(words[0])
		if next == nil {
			break
		}
		at, words = next, words[1:]
	}
	if at == app {
		return "there is no such command"
	}
	if len(at.Commands) > 0 && len(words) > 0 && words[0] != "X" && !strings.HasPrefix(words[0], "-") && at.Action == nil {
		return "there is no such command below " + at.Name
	}
	for _, word := range words {
		flag, ok := strings.CutPrefix(word, "--")
		if !ok || flag == "" {
			continue
		}
		flag, _, _ = strings.Cut(flag, "=")
		if !hasFlag(at, flag) && !hasFlag(app, flag) {
			return "it has no flag --" + flag
		}
	}
	return ""
}

func hasFlag(c *cli.Command, name string) bool {
	for _, flag := range c.Flags {
		for _, known := range flag.Names() {
			if known == name {
				return true
			}
		}
	}
	return name == "help"
}
