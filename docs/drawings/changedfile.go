package main

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"strings"
)

// lanes are those who take part in the way of a changed file.
var lanes = []string{"sender's tree", "replication", "records", "transfer", "receiver's tree"}

// way is what happens from the change of a file until it is in its place elsewhere: who calls
// whom, by which function of the code, and what for.
var way = []struct {
	from, to int // of lanes
	calls    string
	what     string
}{
	{1, 0, "mover/replication scan.listing", "list the folder; compare with what was seen"},
	{1, 2, "mover/replication Engine.observe", "note the change: a later version"},
	{2, 1, "service/replicas/worker notifyingStore.Save", "wake the lanes that lead away"},
	{1, 2, "mover/replication carry.prepare", "claim the path; read both records"},
	{1, 1, "core/replica Decide", "decide what the receiver takes"},
	{1, 3, "mover/transfer Endpoint.Stage", "wait for room in the intake"},
	{3, 0, "mover/transfer task.open", "open; is it as it was seen?"},
	{3, 4, "mover/transfer task.write", "the rest, a copy, the changes, or all of it"},
	{3, 4, "tree Gather", "sealed from others, and read back as stored"},
	{3, 4, "mover/transfer Endpoint.Flush", "make it durable, with others that wait"},
	{1, 2, "mover/replication move.begin", "write down what is about to be done"},
	{1, 4, "mover/replication move.place", "is the older version still what was decided on?"},
	{3, 4, "mover/transfer Staged.Place", "one rename, or two files change places"},
	{1, 2, "mover/replication Engine.finish", "note that it is done, and what the attic keeps"},
	{1, 2, "mover/replication carry.takeAway", "take the ticket out of the backlog"},
}

// defined reports whether a package has a function, or a type has a method, as "Type.Name".
func defined(pkg, name string) (bool, error) {
	files, err := filepath.Glob(filepath.Join(pkg, "*.go"))
	if err != nil {
		return false, err
	}
	typ, method, isMethod := strings.Cut(name, ".")
	for _, file := range files {
		src, err := os.ReadFile(file)
		if err != nil {
			return false, err
		}
		f, err := parser.ParseFile(token.NewFileSet(), file, src, parser.SkipObjectResolution)
		if err != nil {
			return false, err
		}
		for _, d := range f.Decls {
			fn, ok := d.(*ast.FuncDecl)
			if !ok {
				continue
			}
			if !isMethod && fn.Recv == nil && fn.Name.Name == name || isMethod && fn.Recv != nil && fn.Name.Name == method && receiver(fn) == typ {
				return true, nil
			}
		}
	}
	return false, nil
}

func receiver(fn *ast.FuncDecl) string {
	t := fn.Recv.List[0].Type
	if star, ok := t.(*ast.StarExpr); ok {
		t = star.X
	}
	if id, ok := t.(*ast.Ident); ok {
		return id.Name
	}
	return ""
}

// Sizes of the drawing of the way, in pixels.
const (
	laneWidth  = 225
	stepHeight = 46
	wayTop     = 84
)

func drawChangedFile() ([]byte, error) {
	width, height := laneWidth*len(lanes)+40, wayTop+len(way)*stepHeight+20
	c := newCanvas(width, height, "The way of one changed file, from the scan to its place at another replica")
	at := func(lane int) int { return 20 + laneWidth/2 + lane*laneWidth }
	for i, name := range lanes {
		c.rule(at(i), 56, at(i), height-16, line, "4 4")
		c.box(at(i)-80, 20, 160, 36, ink)
		c.text(at(i), 43, "middle", "600", ink, name)
	}
	for i, s := range way {
		pkg, name, _ := strings.Cut(s.calls, " ")
		if ok, err := defined(pkg, name); err != nil || !ok {
			return nil, fmt.Errorf("%s has no %s any more: correct the drawing: %v", pkg, name, err)
		}
		y := wayTop + i*stepHeight
		from, to := at(s.from), at(s.to)
		middle := (from + to) / 2
		if s.from == s.to {
			fmt.Fprintf(c, `<path d="M%d %dh18v14h-14" stroke="%s" fill="none" marker-end="url(#end)"/>`+"\n", from, y+4, span)
			middle = from + 118
		} else if from < to {
			c.arrow(from, y+8, to-3, y+8)
		} else {
			c.arrow(from, y+8, to+3, y+8)
		}
		label := fmt.Sprintf("%d. %s", i+1, s.what)
		fmt.Fprintf(c, `<rect x="%d" y="%d" width="%d" height="17" fill="%s"/>`+"\n", middle-len(label)*7/2, y-13, len(label)*7, sheet)
		c.text(middle, y, "middle", "400", ink, label)
		function := pkg[strings.LastIndex(pkg, "/")+1:] + "." + name
		fmt.Fprintf(c, `<rect x="%d" y="%d" width="%d" height="15" fill="%s"/>`+"\n", middle-len(function)*7/2, y+11, len(function)*7, sheet)
		c.text(middle, y+22, "middle", "400", soft, function)
	}
	return c.close(), nil
}
