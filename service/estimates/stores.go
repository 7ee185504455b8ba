package estimates

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"bridgespan/core/dedup"
	"bridgespan/core/fault"
	"bridgespan/model"
	"bridgespan/mover/pack"
	"bridgespan/records"
	"bridgespan/service/access"
)

// storePrefix is how the folders of stores are called in the work folder, before the
// numbers of their proofs.
const storePrefix = "proof-"

// storeFolder is where a proof has its store.
func (s *Service) storeFolder(run int64) string {
	return filepath.Join(s.workFolder, storePrefix+strconv.FormatInt(run, 10))
}

// Stores lists the chunk stores that proofs have kept on this machine, newest first.
func (s *Service) Stores(ctx context.Context) ([]model.KeptStore, error) {
	list := []model.KeptStore{}
	entries, err := os.ReadDir(s.workFolder)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return list, err
	}
	for _, e := range entries {
		number, ok := strings.CutPrefix(e.Name(), storePrefix)
		run, bad := strconv.ParseInt(number, 10, 64)
		if !ok || bad != nil || !e.IsDir() {
			continue
		}
		switch k, err := s.Store(ctx, run); {
		case fault.KindOf(err) == fault.NotFound: // removed just now, or still being made
		case err != nil:
			return list, err
		default:
			list = append(list, k)
		}
	}
	slices.SortFunc(list, func(a, b model.KeptStore) int { return int(b.Run - a.Run) })
	return list, nil
}

// Store finds the chunk store that a proof has kept.
func (s *Service) Store(ctx context.Context, run int64) (model.KeptStore, error) {
	k := model.KeptStore{Run: run, Path: s.storeFolder(run)}
	info, err := os.Stat(k.Path)
	if errors.Is(err, fs.ErrNotExist) {
		return k, fault.New(fault.NotFound, "list those that are kept with: bspan dedup store list", "no store of run %d is kept here", run)
	}
	if err != nil {
		return k, err
	}
	k.Made, k.Version = info.ModTime().UTC(), info.ModTime().UnixMilli()
	if k.Bytes, err = pack.Size(k.Path); err != nil {
		return k, fault.New(fault.NotFound, "wait until the proof has ended", "the store of run %d is not whole", run)
	}
	// What the run was about is told for as long as it is known.
	if p, err := s.Proof(ctx, run); err == nil {
		k.Volume, k.Folder = p.Volume, p.Asked.Folder
		if !p.Run.State.Ended() {
			return k, fault.New(fault.NotFound, "wait until the proof has ended", "the store of run %d is still being made", run)
		}
	}
	return k, nil
}

// StoreChunks shows the chunks of a kept store that occur most.
func (s *Service) StoreChunks(ctx context.Context, run int64, most int) ([]dedup.StoredChunk, error) {
	k, err := s.Store(ctx, run)
	if err != nil {
		return nil, err
	}
	store, err := pack.Open(k.Path)
	if err != nil {
		return nil, err
	}
	defer store.Close()
	return store.Chunks(most)
}

// RemoveStore removes a kept store. version is what the caller last read.
func (s *Service) RemoveStore(ctx context.Context, run, version int64) error {
	k, err := s.Store(ctx, run)
	if err != nil {
		return err
	}
	if k.Version != version {
		return fault.New(fault.Stale, "look at it again", "the store of run %d is another by now", run)
	}
	err = s.change(ctx, func(tx *records.Tx) error {
		return tx.Record(ctx, access.Change(ctx, "estimate.remove-store", fmt.Sprint("run ", run), k, nil), "run")
	})
	if err != nil || records.Rehearsing(ctx) {
		return err
	}
	return os.RemoveAll(k.Path)
}
