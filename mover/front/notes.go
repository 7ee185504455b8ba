package front

import (
	"bufio"
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
)

// notes are the paths of a front that the keeper made: a file of lines, each of which says that a
// path is made, or is gone. A line is written, and durable, before anything is made at its path.
type notes struct {
	file    string
	made    map[string]bool
	lines   int // in the file
	durable *os.File
}

type note struct {
	Path string `json:"path"`
	Gone bool   `json:"gone,omitempty"`
}

// made are the notes of a front, read when they are first needed.
func (k *Keeper) made(share string) (*notes, error) {
	if n := k.notes[share]; n != nil {
		return n, nil
	}
	if err := os.MkdirAll(k.State, 0o700); err != nil {
		return nil, err
	}
	n := &notes{file: filepath.Join(k.State, share+".front"), made: map[string]bool{}}
	if err := n.read(); err != nil {
		return nil, err
	}
	if k.notes == nil {
		k.notes = map[string]*notes{}
	}
	k.notes[share] = n
	return n, nil
}

func (n *notes) read() error {
	f, err := os.Open(n.file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer f.Close()
	for lines := bufio.NewScanner(f); ; n.lines++ {
		if !lines.Scan() {
			return lines.Err()
		}
		var line note
		if json.Unmarshal(lines.Bytes(), &line) != nil {
			continue // the last one, broken off: nothing was made after it
		}
		if n.made[line.Path] = !line.Gone; line.Gone {
			delete(n.made, line.Path)
		}
	}
}

func (n *notes) has(path string) bool { return n.made[path] }

// add notes what is about to be made.
func (n *notes) add(paths []string) error { return n.write(paths, false) }

// remove notes what is gone.
func (n *notes) remove(paths []string) error { return n.write(paths, true) }

func (n *notes) write(paths []string, gone bool) error {
	if len(paths) == 0 {
		return nil
	}
	if err := n.compact(); err != nil {
		return err
	}
	if n.durable == nil {
		f, err := os.OpenFile(n.file, os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o600)
		if err != nil {
			return err
		}
		n.durable = f
	}
	// A line that was broken off ends here.
	if err := appendLines(n.durable, paths, gone); err != nil {
		return err
	}
	n.lines += len(paths)
	for _, p := range paths {
		if n.made[p] = !gone; gone {
			delete(n.made, p)
		}
	}
	return nil
}

func appendLines(f *os.File, paths []string, gone bool) error {
	out := bufio.NewWriter(f)
	_ = out.WriteByte('\n')
	lines := json.NewEncoder(out)
	for _, p := range paths {
		if err := lines.Encode(note{p, gone}); err != nil {
			return err
		}
	}
	if err := out.Flush(); err != nil {
		return err
	}
	return f.Sync()
}

// compact writes the notes anew when most lines say nothing any more.
func (n *notes) compact() error {
	if n.lines < 1000 || n.lines < 2*len(n.made) {
		return nil
	}
	n.close()
	f, err := os.OpenFile(n.file+".new", os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	paths := make([]string, 0, len(n.made))
	for p := range n.made {
		paths = append(paths, p)
	}
	err = errors.Join(appendLines(f, paths, false), f.Close())
	if err == nil {
		err = os.Rename(n.file+".new", n.file)
	}
	if err == nil {
		n.lines = len(paths)
	}
	return err
}

func (n *notes) close() {
	if n.durable != nil {
		n.durable.Close()
		n.durable = nil
	}
}

// forget removes the notes of a front that is gone.
func (k *Keeper) forget(share string) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	n, err := k.made(share)
	if err != nil {
		return err
	}
	n.close()
	delete(k.notes, share)
	if err := os.Remove(n.file); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}
