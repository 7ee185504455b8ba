package treetest

import (
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"bridgespan/tree"
)

// ReadBack tests that a tree, whose files are in a folder of this machine, finds out
// that somebody has changed there what it had staged.
func ReadBack(t *testing.T, tr tree.Tree, folder string) {
	t.Helper()
	text := strings.Repeat("as it was sent ", 1<<19)
	stage := func(name string, content io.Reader, options tree.PutOptions) error {
		options.Size, options.SizeKnown = int64(len(text)), true
		_, err := tree.Stage(t.Context(), tr, name, content, options)
		return err
	}
	meddle := func(name string) func() {
		return func() {
			f, err := os.OpenFile(filepath.Join(folder, name), os.O_WRONLY, 0)
			if err != nil {
				t.Error(err)
				return
			}
			defer f.Close()
			if _, err := f.WriteAt([]byte("A"), int64(len(text)/2)); err != nil {
				t.Error(err)
			}
		}
	}
	if err := stage("as-sent", strings.NewReader(text), tree.PutOptions{ReadBack: true}); err != nil {
		t.Errorf("Stage of what nobody changes: %v", err)
	}
	wantContent(t, tr, "as-sent", text)
	if err := stage("changed", &lastly{strings.NewReader(text), meddle("changed")}, tree.PutOptions{}); err != nil {
		t.Errorf("Stage of what is not read back: %v", err)
	}
	err := stage("altered", &lastly{strings.NewReader(text), meddle("altered")}, tree.PutOptions{ReadBack: true})
	wantError(t, "Stage of what somebody changes", err, tree.ErrAltered)
	wantNames(t, tr, ".", "as-sent", "changed")
	if tr.Capabilities().Grows {
		const first = 1 << 20
		if err := stage("grown", strings.NewReader(text[:first]), tree.PutOptions{ReadBack: true, Part: true}); err != nil {
			t.Errorf("Stage of the beginning: %v", err)
		}
		rest := func() io.Reader { return strings.NewReader(text[first:]) }
		err := stage("grown", &lastly{rest(), meddle("grown")}, tree.PutOptions{ReadBack: true, Part: true, At: first})
		wantError(t, "Stage of a part that somebody changes", err, tree.ErrAltered)
		if err := stage("grown", rest(), tree.PutOptions{ReadBack: true, Part: true, At: first}); err != nil {
			t.Errorf("Stage of the part once more: %v", err)
		}
		wantContent(t, tr, "grown", text)
	}
}

// lastly is content that does something when all of it was read, once.
type lastly struct {
	io.Reader
	do func()
}

func (l *lastly) Read(p []byte) (int, error) {
	n, err := l.Reader.Read(p)
	if err == io.EOF && l.do != nil {
		l.do()
		l.do = nil
	}
	return n, err
}
