package replication

import (
	"context"
	"errors"
	"io"
	"testing"

	"bridgespan/core/acl"
	"bridgespan/tree"
	"bridgespan/tree/memory"
)

// narrow takes no file with permissions of which it would not let us get rid.
type narrow struct {
	*memory.Tree
	staged int
}

func (n *narrow) Stage(ctx context.Context, name string, content io.Reader, options tree.PutOptions) (tree.Entry, error) {
	n.staged++
	if !options.Meta.Descriptor.IsZero() {
		return tree.Entry{}, tree.PathError("stage", name, tree.ErrKeepsOut)
	}
	return n.Tree.Stage(ctx, name, content, options)
}

// A file whose permissions would keep us out is told of, and does not come with others.
func TestKeptOut(t *testing.T) {
	d, err := acl.Parse("O:S-1-22-1-0G:S-1-22-2-0D:P(A;;FA;;;S-1-22-1-0)(A;;FR;;;WD)")
	if err != nil {
		t.Fatal(err)
	}
	b := &narrow{Tree: &memory.Tree{}}
	p := newPair(t, &memory.Tree{}, b)
	var told []Trouble
	p.Trouble = func(tr Trouble) { told = append(told, tr) }
	putBytes(t, p.a, "minutes", []byte("closed"))
	if err := p.a.Apply(t.Context(), "minutes", tree.Meta{Descriptor: d}); err != nil {
		t.Fatal(err)
	}
	p.settleDown()
	if len(told) != b.staged || len(told) == 0 || !errors.Is(told[0].Err, tree.ErrKeepsOut) || told[0].Path != "minutes" {
		t.Errorf("it was staged %d times, and told is %v", b.staged, told)
	}
	if !p.endpoint(p.Replicas[1]).NamesOwners() {
		t.Error("the replica is taken for one that does not let us name owners")
	}
	if all := shown(t, p.b); len(all) > 0 || len(leftOver(t, p.b)) > 0 {
		t.Errorf("there are %v, and in the intake %v", all, leftOver(t, p.b))
	}
}
