package surveys

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"path"
	"slices"
	"sync"

	"bridgespan/core/finding"
	"bridgespan/core/survey"
	"bridgespan/guard"
	"bridgespan/model"
	"bridgespan/tree"
)

// Bounds of the tries: of how many different permissions a file is opened, those on most files first, and how many side by side.
const (
	mostTried       = 5000
	triedSideBySide = 4
)

// KeptOut finds out which files our account cannot read: it opens one file for each set of permissions, and reads a byte.
func (w *Walker) KeptOut(ctx context.Context) (k model.KeptOut, err error) {
	list := slices.DeleteFunc(w.descriptors(), func(s *seen) bool { return s.file == "" })
	resident := tree.Resident(w.tree) // a stub is not fetched for it
	var mu sync.Mutex
	group, gctx := guard.WithContext(ctx)
	group.SetLimit(triedSideBySide)
	for _, s := range list[:min(len(list), mostTried)] {
		group.Go(func() error {
			err := readable(gctx, resident, path.Join(w.under, s.file))
			if errors.Is(err, tree.ErrUnreachable) || gctx.Err() != nil {
				return err
			}
			mu.Lock()
			defer mu.Unlock()
			k.Tried++
			if errors.Is(err, fs.ErrPermission) {
				k.Files += s.files
				k.Samples = append(k.Samples, s.file)
			}
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		return k, err
	}
	slices.Sort(k.Samples)
	k.Samples = k.Samples[:min(len(k.Samples), mostSamples)]
	return k, nil
}

// readable returns the error of reading the first byte of a file.
func readable(ctx context.Context, t tree.Tree, name string) error {
	content, err := t.Open(ctx, name)
	if err != nil {
		return err
	}
	defer content.Close()
	if _, err = content.ReadAt(make([]byte, 1), 0); err == io.EOF {
		err = nil
	}
	return err
}

// judgeKeptOut tells what our account cannot read; ok is false when that is nothing.
func judgeKeptOut(who string, k model.KeptOut, f survey.Figures) (found finding.Finding, ok bool) {
	n := k.Files + f.Unreadable + f.Unseen
	if n == 0 {
		return found, false
	}
	found = finding.New(finding.Warn, "kept-out", who, "this account, with which Bridge Span signs in, cannot read it",
		"copies, replicas and verifications leave it out", "grant the account read access, or sign in with an account that has it")
	found.Count, found.Samples = n, k.Samples
	if len(found.Samples) == 0 {
		found.Samples = f.Trouble
	}
	return found, true
}
