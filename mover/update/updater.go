package update

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// Updater replaces the program of a mover.
type Updater struct {
	State   string  // folder of what it keeps
	Program Program // that runs
	Version string  // of it

	serves  atomic.Bool // the program is no trial any more
	mu      sync.Mutex
	restart chan struct{} // closed when another program is in place
	placed  bool
}

// New makes the updater of a mover.
func New(folder string, p Program, version string) *Updater {
	return &Updater{State: folder, Program: p, Version: version, restart: make(chan struct{})}
}

// Restart is closed when another program is in place, and is to be started.
func (u *Updater) Restart() <-chan struct{} { return u.restart }

// Status is what a mover reports about updates.
type Status struct {
	// Unable is why the program cannot be replaced; "" when it can.
	Unable string `json:"unable,omitempty"`
	// Reverted is why the latest update was undone; "" when it was not.
	Reverted string `json:"reverted,omitempty"`
}

// Status tells whether the program can be replaced.
func (u *Updater) Status() (s Status) {
	latest, err := u.read()
	if err != nil {
		s.Unable = err.Error()
		return s
	}
	s.Reverted = latest.Reverted
	if err := unix.Access(filepath.Dir(u.Program.Path), unix.W_OK); err != nil { // also EROFS
		s.Unable = fmt.Sprintf("the folder of its program cannot be written: %v", err)
	}
	return s
}

func (u *Updater) fresh() string    { return u.Program.Path + ".new" }
func (u *Updater) previous() string { return u.Program.Path + ".previous" }

// Receive checks an offer, writes its program, tries whether it starts here, and puts it in the place of the one that runs, which is kept.
// The mover is to start it then: see [Updater.Restart].
func (u *Updater) Receive(ctx context.Context, o Offer, content io.Reader) error {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.placed {
		return fmt.Errorf("%w: another update is in place already", ErrOld)
	}
	latest, err := u.read()
	if err != nil {
		return err
	}
	if err := o.check(); err != nil {
		return err
	}
	if err := u.pin(o.Key); err != nil {
		return err
	}
	if !o.Issued.After(latest.Issued) {
		return ErrOld
	}
	if err := u.write(o, content); err != nil {
		return errors.Join(err, os.RemoveAll(u.fresh()))
	}
	if err := try(ctx, u.fresh(), o.Version); err != nil {
		return errors.Join(err, os.RemoveAll(u.fresh()))
	}
	if err := u.place(o); err != nil {
		return err
	}
	u.placed = true
	close(u.restart)
	return nil
}

// write writes the program of an offer beside the one that runs.
func (u *Updater) write(o Offer, content io.Reader) error {
	if err := os.RemoveAll(u.fresh()); err != nil {
		return err
	}
	f, err := os.OpenFile(u.fresh(), os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o700)
	if err != nil {
		return err
	}
	sum := sha256.New()
	n, err := io.Copy(io.MultiWriter(f, sum), io.LimitReader(content, o.Size+1))
	err = errors.Join(err, f.Chmod(0o755), f.Sync(), f.Close())
	switch {
	case err != nil:
		return err
	case n != o.Size || hex.EncodeToString(sum.Sum(nil)) != o.Digest:
		return fmt.Errorf("%w: the program is not the one that was signed", ErrSignature)
	}
	return nil
}

// tryLasts is how long a new program may take to tell its version.
const tryLasts = 20 * time.Second

// try starts a program to tell its version: one that cannot run here is not put in place.
func try(ctx context.Context, program, version string) error {
	ctx, cancel := context.WithTimeout(ctx, tryLasts)
	defer cancel()
	out, err := exec.CommandContext(ctx, program, "--version").CombinedOutput()
	for errors.Is(err, syscall.ETXTBSY) { // another process was being started while the file was written
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
		out, err = exec.CommandContext(ctx, program, "--version").CombinedOutput()
	}
	if err != nil || !strings.Contains(string(out), version) {
		return fmt.Errorf("the new program does not run on this host: %.200q: %w", out, errors.Join(err, errVersion))
	}
	return nil
}

var errVersion = errors.New("it does not tell its version")

// place puts the new program in the place of the one that runs. The state is stored first: whatever is found at the next start, it tells
// what to do.
func (u *Updater) place(o Offer) error {
	if err := os.RemoveAll(u.previous()); err != nil {
		return err
	}
	if err := os.Link(u.Program.Path, u.previous()); err != nil {
		return err
	}
	if err := u.store(state{Issued: o.Issued, Version: o.Version, Digest: o.Digest, Trial: true}); err != nil {
		return err
	}
	return errors.Join(os.Rename(u.fresh(), u.Program.Path), syncFolder(filepath.Dir(u.Program.Path)))
}

// mostTries is how often a new program may be started before the one before it is put back.
const mostTries = 3

// Started is called when the mover starts. It puts the program before a new one back when that was started too often without serving;
// then it returns true, and the mover is to start the program that is in place.
func (u *Updater) Started() (reverted bool, err error) {
	s, err := u.read()
	if err != nil || !s.Trial || s.Digest != u.Program.Digest {
		return false, err
	}
	if s.Tries++; s.Tries > mostTries {
		return true, u.revert(s, fmt.Errorf("it was started %d times and did not serve", mostTries))
	}
	return false, u.store(s)
}

// Failed is called when the mover cannot serve. During the trial of a new program it puts the program before it back, and returns true.
func (u *Updater) Failed(why error) (reverted bool, err error) {
	s, err := u.read()
	if err != nil || !s.Trial || s.Digest != u.Program.Digest {
		return false, err
	}
	return true, u.revert(s, why)
}

func (u *Updater) revert(s state, why error) error {
	if err := os.Rename(u.previous(), u.Program.Path); err != nil {
		return err
	}
	s.Trial, s.Reverted = false, fmt.Sprintf("the update to %s was undone: %v", s.Version, why)
	slog.Error(s.Reverted)
	return errors.Join(u.store(s), syncFolder(filepath.Dir(u.Program.Path)))
}

// Serves is called when the mover serves: the trial of a new program is passed.
func (u *Updater) Serves() error {
	if u.serves.Load() {
		return nil
	}
	s, err := u.read()
	if err == nil && s.Trial && s.Digest == u.Program.Digest {
		s.Trial, s.Tries = false, 0
		slog.Info("the mover was updated", "version", s.Version)
		err = u.store(s)
	}
	u.serves.Store(err == nil)
	return err
}

// Exec starts the program that is in place, in the place of this process. It returns only when that fails.
func (u *Updater) Exec() error {
	return syscall.Exec(u.Program.Path, os.Args, os.Environ())
}
