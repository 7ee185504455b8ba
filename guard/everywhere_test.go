package guard_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strings"
	"testing"
)

// exempt are packages that nobody runs but us: tests and benchmarks.
func exempt(path string) bool {
	top, _, _ := strings.Cut(filepath.ToSlash(path), "/")
	return top == "guard" || top == "bench" || top == "e2e" || strings.HasSuffix(path, "_test.go") || strings.HasPrefix(filepath.ToSlash(path), "tree/treetest/")
}

// Nothing starts a goroutine but through this package, or a panic there would end the
// process.
func TestEveryGoroutineIsGuarded(t *testing.T) {
	files := 0
	err := filepath.WalkDir("..", func(name string, d fs.DirEntry, err error) error {
		path, bad := filepath.Rel("..", name)
		switch {
		case err != nil || bad != nil:
			return err
		case d.IsDir() && (d.Name() == "node_modules" || d.Name() == "var" || d.Name() == ".git"):
			return filepath.SkipDir
		case d.IsDir() || filepath.Ext(name) != ".go" || exempt(path):
			return nil
		}
		files++
		set := token.NewFileSet()
		file, err := parser.ParseFile(set, name, nil, parser.SkipObjectResolution)
		if err != nil {
			return err
		}
		for at, found := range unguarded(file) {
			t.Errorf("%s: %s: start it through the package guard", set.Position(at), found)
		}
		return nil
	})
	if err != nil || files < 100 {
		t.Fatalf("%d files were read: %v", files, err)
	}
}

// unguarded finds what starts goroutines by itself.
func unguarded(file *ast.File) map[token.Pos]string {
	found := map[token.Pos]string{}
	for _, i := range file.Imports {
		if strings.Contains(i.Path.Value, "sync/errgroup") {
			found[i.Pos()] = "errgroup"
		}
	}
	ast.Inspect(file, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.GoStmt:
			found[n.Pos()] = "a go statement"
		case *ast.CallExpr:
			called, ok := n.Fun.(*ast.SelectorExpr)
			if !ok || len(n.Args) == 0 {
				return true
			}
			_, bare := n.Args[len(n.Args)-1].(*ast.FuncLit)
			switch {
			case bare && called.Sel.Name == "AfterFunc":
				found[n.Pos()] = "a function that a timer or a context calls"
			case called.Sel.Name == "DoChan":
				found[n.Pos()] = "singleflight, which lets panics out of goroutines of its own"
			}
		}
		return true
	})
	return found
}

func TestUnguarded(t *testing.T) {
	for code, many := range map[string]int{
		`import "golang.org/x/sync/errgroup"; var g errgroup.Group`: 1,
		`func f() { go f() }`:                                                1,
		`func f() { time.AfterFunc(1, func() {}) }`:                          1,
		`func f() { context.AfterFunc(ctx, func() {}) }`:                     1,
		`func f() { group.DoChan("a", f) }`:                                  1,
		`func f() { guard.Go(f); time.AfterFunc(1, guard.Func(func() {})) }`: 0,
	} {
		file, err := parser.ParseFile(token.NewFileSet(), "x.go", "package x; "+code, parser.SkipObjectResolution)
		if err != nil {
			t.Fatal(err)
		}
		if found := unguarded(file); len(found) != many {
			t.Errorf("%s: %v", code, found)
		}
	}
}
