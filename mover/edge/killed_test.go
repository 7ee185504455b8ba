package edge

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"testing"
	"time"

	"bridgespan/standin/standintest"
	"bridgespan/tree"
	"bridgespan/tree/folder"
	"bridgespan/tree/memory"
)

// Files that a process makes stubs of, and fills again, until it is killed.
const (
	killedFiles = 8
	killedSize  = 300_000
)

func killedName(i int) string { return fmt.Sprint("f", i) }

// contents are a tree that has the contents of all files.
func contents(ctx context.Context) (*memory.Tree, error) {
	objects := &memory.Tree{Objects: true}
	for i := range killedFiles {
		if _, err := objects.Put(ctx, killedName(i), bytes.NewReader(noise(uint64(i), killedSize)), tree.PutOptions{}); err != nil {
			return nil, err
		}
	}
	return objects, nil
}

// offloadForEver makes stubs of the files of a folder, and fills them, and writes a byte for each.
func offloadForEver(ctx context.Context, dir string) error {
	f, err := folder.Open(dir)
	if err != nil {
		return err
	}
	objects, err := contents(ctx)
	if err != nil {
		return err
	}
	e := &Edge{}
	e.Use(objects)
	f.FetchWith(e)
	for i := 0; ; i = (i + 1) % killedFiles {
		name := killedName(i)
		if err := tree.Fetch(ctx, f, name); err != nil {
			return err
		}
		entry, err := f.Stat(ctx, name)
		if err != nil {
			return err
		}
		object, err := objects.Stat(ctx, name)
		if err != nil {
			return err
		}
		_, err = f.Offload(ctx, name, entry, tree.NewMark(name, object, object.Digest))
		if errors.Is(err, tree.ErrInUse) { // what filled it has it open for a moment yet
			continue
		}
		if err != nil {
			return err
		}
		if _, err := os.Stdout.Write([]byte(".")); err != nil {
			return err
		}
	}
}

// A process that is killed while it makes stubs, or fills them, leaves whole files and stubs, and nothing else: each shows its content.
func TestKilled(t *testing.T) {
	needsRoot(t)
	dir := t.TempDir()
	standintest.Volume(t, dir, 64<<20)
	f, err := folder.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	for i := range killedFiles {
		if _, err := f.Put(t.Context(), killedName(i), bytes.NewReader(noise(uint64(i), killedSize)), tree.PutOptions{}); err != nil {
			t.Fatal(err)
		}
	}
	stubs, whole := 0, 0
	for range 40 {
		killWhileItOffloads(t, dir)
		objects, err := contents(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		e := &Edge{}
		e.Use(objects)
		reader, err := folder.Open(dir)
		if err != nil {
			t.Fatal(err)
		}
		reader.FetchWith(e)
		for i := range killedFiles {
			name := killedName(i)
			entry, err := reader.Stat(t.Context(), name)
			if err != nil {
				t.Fatal(err)
			}
			if entry.Residency == tree.Stub {
				stubs++
			} else {
				whole++
			}
			got, err := tree.ReadFile(t.Context(), reader, name)
			if err != nil || !bytes.Equal(got, noise(uint64(i), killedSize)) {
				t.Errorf("%s, %+v: %d bytes, %v, that are not its own", name, entry, len(got), err)
			}
		}
		reader.Close()
	}
	if stubs == 0 || whole == 0 {
		t.Errorf("it left %d stubs and %d whole files: it was killed always at the same point", stubs, whole)
	}
}

// killWhileItOffloads starts a process that makes stubs, and kills it a while after it has made some.
func killWhileItOffloads(t *testing.T, dir string) {
	t.Helper()
	program, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command(program, "offload", dir)
	cmd.Env = append(os.Environ(), asProcess+"=1")
	cmd.Stderr = os.Stderr
	out, err := cmd.StdoutPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		t.Fatal(err)
	}
	if _, err := io.ReadFull(out, make([]byte, 1+rand.IntN(2*killedFiles))); err != nil {
		t.Error(err)
	}
	for until := time.Now().Add(time.Duration(rand.IntN(5000)) * time.Microsecond); time.Now().Before(until); { // at any moment, not at the end of one
	}
	_ = cmd.Process.Kill()
	_ = cmd.Wait()
}
