package gateway

import (
	"context"
	"errors"
	"io/fs"
	"strings"
	"testing"

	"bridgespan/tree"
	"bridgespan/tree/memory"
)

// aliased is a tree whose server answers to short names, too.
type aliased struct {
	*memory.Tree
	names *strings.Replacer
}

func (a *aliased) Stat(ctx context.Context, name string) (tree.Entry, error) {
	return a.Tree.Stat(ctx, a.names.Replace(name))
}

// A name leads to the entry that is listed under it, never to one with another name.
func TestOwnName(t *testing.T) {
	t1 := &aliased{&memory.Tree{}, strings.NewReplacer("BSPAN~1", ".bspan", "LONGNA~1.TXT", "long name.txt", "bspan~1", ".bspan")}
	for _, folder := range []string{".bspan", "folder", "folder/real~1"} {
		if err := t1.Mkdir(t.Context(), folder); err != nil {
			t.Fatal(err)
		}
	}
	for _, file := range []string{"long name.txt", "folder/real~1/a~1.txt", ".bspan/secret"} {
		if _, err := t1.Put(t.Context(), file, strings.NewReader("x"), tree.PutOptions{}); err != nil {
			t.Fatal(err)
		}
	}
	for name, good := range map[string]bool{
		".": true, "long name.txt": true, "folder/real~1": true, "folder/REAL~1/A~1.TXT": true, "folder/new~1.txt": true, "nothing~1/at/all": true, "a ~ b": true,
		"LONGNA~1.TXT": false, "BSPAN~1": false, "BSPAN~1/secret": false, "bspan~1/secret": false,
	} {
		if err := ownName(t.Context(), t1, name); (err == nil) != good || err != nil && !errors.Is(err, fs.ErrNotExist) {
			t.Errorf("%s: %v", name, err)
		}
	}
}
