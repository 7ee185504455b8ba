package update

import (
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// program is a program that tells its version, as a script.
func program(version string) string {
	return fmt.Sprintf("#!/bin/sh\necho bspand version %s\n", version)
}

func digest(text string) string {
	sum := sha256.Sum256([]byte(text))
	return hex.EncodeToString(sum[:])
}

var key = ed25519.NewKeyFromSeed(make([]byte, ed25519.SeedSize))

// offer is an offer of a program, signed.
func offer(version, text string, change func(*Offer)) Offer {
	o := Offer{Version: version, Platform: Platform, Digest: digest(text), Size: int64(len(text)), Issued: time.Now()}
	if change != nil {
		change(&o)
	}
	o.Sign(key)
	return o
}

// installed is an updater of a program in a folder of its own.
func installed(t *testing.T, version string) *Updater {
	t.Helper()
	name := filepath.Join(t.TempDir(), "bspand")
	if err := os.WriteFile(name, []byte(program(version)), 0o755); err != nil {
		t.Fatal(err)
	}
	return New(t.TempDir(), Program{Path: name, Digest: digest(program(version))}, version)
}

// restarted is the updater after the program that is in place was started.
func (u *Updater) restarted(t *testing.T) *Updater {
	t.Helper()
	return New(u.State, Program{Path: u.Program.Path, Digest: digest(u.inPlace(t))}, "")
}

func (u *Updater) inPlace(t *testing.T) string {
	t.Helper()
	text, err := os.ReadFile(u.Program.Path)
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

func (u *Updater) update(t *testing.T, version string) {
	t.Helper()
	if err := u.Receive(t.Context(), offer(version, program(version), nil), strings.NewReader(program(version))); err != nil {
		t.Fatal(err)
	}
	select {
	case <-u.Restart():
	default:
		t.Fatal("the mover is not told to start the new program")
	}
}

func TestUpdate(t *testing.T) {
	u := installed(t, "one")
	if s := u.Status(); s != (Status{}) {
		t.Errorf("the status is %+v", s)
	}
	u.update(t, "two")
	if u.inPlace(t) != program("two") {
		t.Error("the new program is not in place")
	}
	next := u.restarted(t)
	if reverted, err := next.Started(); reverted || err != nil {
		t.Fatal(reverted, err)
	}
	if err := next.Serves(); err != nil {
		t.Fatal(err)
	}
	for range mostTries + 2 { // it is no trial any more
		if reverted, err := u.restarted(t).Started(); reverted || err != nil {
			t.Fatal(reverted, err)
		}
	}
	next = u.restarted(t)
	next.update(t, "three")
	if next.inPlace(t) != program("three") {
		t.Error("the third program is not in place")
	}
}

// A new program that does not serve is replaced by the one before it, and the mover reports why.
func TestRevert(t *testing.T) {
	for name, fails := range map[string]func(t *testing.T, u *Updater) (bool, error){
		"it cannot serve": func(t *testing.T, u *Updater) (bool, error) {
			next := u.restarted(t)
			if reverted, err := next.Started(); reverted || err != nil {
				return reverted, err
			}
			return next.Failed(errors.New("the address is in use"))
		},
		"it crashes": func(t *testing.T, u *Updater) (bool, error) {
			for range mostTries {
				if reverted, err := u.restarted(t).Started(); reverted || err != nil {
					return false, fmt.Errorf("reverted early: %v, %w", reverted, err)
				}
			}
			return u.restarted(t).Started()
		},
	} {
		t.Run(name, func(t *testing.T) {
			u := installed(t, "one")
			u.update(t, "two")
			if reverted, err := fails(t, u); !reverted || err != nil {
				t.Fatal(reverted, err)
			}
			if u.inPlace(t) != program("one") {
				t.Error("the program before it is not in place")
			}
			back := u.restarted(t)
			if reverted, err := back.Started(); reverted || err != nil {
				t.Error(reverted, err)
			}
			if s := back.Status(); !strings.Contains(s.Reverted, "two was undone") {
				t.Errorf("the status is %+v", s)
			}
			if reverted, err := back.Failed(errors.New("out of memory")); reverted || err != nil {
				t.Error("a failure of the old program is no failure of the update", reverted, err)
			}
		})
	}
}

// What is not right is refused, and the program that runs stays in place.
func TestRefused(t *testing.T) {
	other := ed25519.NewKeyFromSeed([]byte(strings.Repeat("k", ed25519.SeedSize)))
	good := program("two")
	for name, c := range map[string]struct {
		offer   func() Offer
		content string
		want    error
	}{
		"another signature": {func() Offer { o := offer("two", good, nil); o.Version = "three"; return o }, good, ErrSignature},
		"another program":   {func() Offer { return offer("two", good, nil) }, program("2.0"), ErrSignature},
		"cut off":           {func() Offer { return offer("two", good, nil) }, good[:10], ErrSignature},
		"too long":          {func() Offer { return offer("two", good, nil) }, good + "#", ErrSignature},
		"too large":         {func() Offer { return offer("two", good, func(o *Offer) { o.Size = Most + 1 }) }, good, ErrSignature},
		"no size":           {func() Offer { return offer("two", good, func(o *Offer) { o.Size = -1 }) }, good, ErrSignature},
		"another platform":  {func() Offer { return offer("two", good, func(o *Offer) { o.Platform = "plan9/arm" }) }, good, ErrPlatform},
		"an old offer":      {func() Offer { return offer("two", good, func(o *Offer) { o.Issued = time.Now().Add(-time.Hour) }) }, good, ErrOld},
		"another key":       {func() Offer { o := offer("two", good, nil); o.Sign(other); return o }, good, ErrKey},
		"another version":   {func() Offer { return offer("nine", good, nil) }, good, errVersion},
		"no program":        {func() Offer { return offer("two", "x", nil) }, "x", errVersion},
	} {
		t.Run(name, func(t *testing.T) {
			u := installed(t, "zero")
			u.update(t, "one") // the key is known from now on
			u = u.restarted(t)
			if err := u.Serves(); err != nil {
				t.Fatal(err)
			}
			if err := u.Receive(t.Context(), c.offer(), strings.NewReader(c.content)); !errors.Is(err, c.want) {
				t.Errorf("%v, want %v", err, c.want)
			}
			if u.inPlace(t) != program("one") {
				t.Error("another program is in place")
			}
			if _, err := os.Stat(u.fresh()); !errors.Is(err, os.ErrNotExist) {
				t.Error("the refused program was left behind")
			}
		})
	}
}

func TestUnable(t *testing.T) {
	u := installed(t, "one")
	u.Program.Path = filepath.Join(t.TempDir(), "missing", "bspand")
	if s := u.Status(); s.Unable == "" {
		t.Error("a program in a folder that cannot be written can be replaced")
	}
}
