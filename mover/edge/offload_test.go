package edge

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"bridgespan/tree"
)

// offloadedSize is small, so that files become stubs, and whole, often.
const offloadedSize = 100_000

// readWhenTold opens and reads a file in one of several ways whenever it is sent a byte, and answers with one. Content that is not the file's
// own is an error. Another process must do this: a mover's own accesses are not held back.
func readWhenTold(name, way string) error {
	content := noise(1, offloadedSize)
	for told := make([]byte, 1); ; {
		if n, _ := os.Stdin.Read(told); n == 0 {
			return nil
		}
		for began, delay := time.Now(), rand.N(5*time.Millisecond); time.Since(began) < delay; {
			// The open is spread over the whole offload.
		}
		got, err := readBy(name, way)
		if err == nil && !bytes.Equal(got, content) {
			err = fmt.Errorf("%s: %d bytes that are not its own", way, len(got))
		}
		if err != nil {
			return err
		}
		if _, err := os.Stdout.Write(told); err != nil {
			return err
		}
	}
}

func readBy(name, way string) ([]byte, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	switch way {
	case "maps":
		mapped, err := unix.Mmap(int(f.Fd()), 0, offloadedSize, unix.PROT_READ, unix.MAP_PRIVATE|unix.MAP_POPULATE)
		if err != nil {
			return nil, err
		}
		defer unix.Munmap(mapped)
		return bytes.Clone(mapped), nil
	case "skips holes":
		got := make([]byte, offloadedSize)
		for at := int64(0); at < offloadedSize; {
			data, err := unix.Seek(int(f.Fd()), at, unix.SEEK_DATA)
			if errors.Is(err, unix.ENXIO) {
				break
			}
			hole, bad := unix.Seek(int(f.Fd()), data, unix.SEEK_HOLE)
			if err := errors.Join(err, bad); err != nil {
				return nil, err
			}
			if _, err := f.ReadAt(got[data:hole], data); err != nil {
				return nil, err
			}
			at = hole
		}
		return got, nil
	default:
		return io.ReadAll(f)
	}
}

// Programs that open a file while it is offloaded read all of its content.
func TestOffloadedWhileOpened(t *testing.T) { eachTrigger(t, testOffloadedWhileOpened) }

func testOffloadedWhileOpened(t *testing.T, b *bench) {
	ways := []string{"reads", "maps"}
	if b.listener.trigger == OnOpen { // else only programs that are known for it can do so
		ways = append(ways, "skips holes")
	}
	content := noise(1, offloadedSize)
	entry, err := b.folder.Put(t.Context(), "f", bytes.NewReader(content), tree.PutOptions{})
	if err != nil {
		t.Fatal(err)
	}
	object, err := b.objects.Put(t.Context(), "f", bytes.NewReader(content), tree.PutOptions{Meta: tree.Meta{Modified: entry.Modified}})
	if err != nil {
		t.Fatal(err)
	}
	var readers []*reader
	for _, way := range ways {
		readers = append(readers, startReader(t, filepath.Join(b.dir, "f"), way))
	}
	stubs := 0
	for i := range 600 {
		r := readers[i%len(readers)]
		r.tell(t)
		switch _, err := b.folder.Offload(t.Context(), "f", entry, tree.NewMark("f", object, object.Digest)); {
		case err == nil:
			stubs++
		case !errors.Is(err, tree.ErrInUse):
			t.Error(err)
		}
		r.answers(t)
	}
	for _, r := range readers {
		r.input.Close()
		if err := r.cmd.Wait(); err != nil {
			t.Error(err)
		}
	}
	if stubs < 50 {
		t.Errorf("it became a stub %d times", stubs)
	}
	t.Logf("it became a stub %d times", stubs)
}

// reader is a process that reads a file when it is told to.
type reader struct {
	cmd    *exec.Cmd
	input  io.WriteCloser
	output io.ReadCloser
}

func startReader(t *testing.T, file, way string) *reader {
	t.Helper()
	r := &reader{cmd: exec.CommandContext(t.Context(), os.Args[0], "read", file, way)}
	r.cmd.Env = append(os.Environ(), asProcess+"=1")
	r.cmd.Stderr = os.Stderr
	var bad error
	r.input, bad = r.cmd.StdinPipe()
	output, err := r.cmd.StdoutPipe()
	if err = errors.Join(bad, err); err == nil {
		err = r.cmd.Start()
	}
	if err != nil {
		t.Fatal(err)
	}
	r.output = output
	return r
}

func (r *reader) tell(t *testing.T) {
	t.Helper()
	if _, err := r.input.Write([]byte{1}); err != nil {
		t.Fatal(err)
	}
}

func (r *reader) answers(t *testing.T) {
	t.Helper()
	if _, err := r.output.Read(make([]byte, 1)); err != nil {
		t.Fatal(err)
	}
}
