package estimates

import (
	"context"
	"errors"
	"os"
	"syscall"

	"github.com/dustin/go-humanize"

	"bridgespan/core/dedup"
	"bridgespan/core/fault"
	"bridgespan/model"
	"bridgespan/service/estate"
)

// mayCount refuses to count exactly when the work folder lies on what is estimated.
func (s *Service) mayCount(ctx context.Context, asked model.Counting, volumes ...model.DedupVolume) error {
	if !asked.Exact {
		return nil
	}
	if err := s.makeWorkFolder(); err != nil || asked.Anyway {
		return err
	}
	for _, v := range volumes {
		for _, p := range v.Places {
			if err := s.elsewhere(ctx, "exact", "leave this out, for a sample where memory does not do; or ask for it anyway, if this one may be written to", p); err != nil {
				return err
			}
		}
	}
	return nil
}

// means are what an analysis may use: memory, and files in the work folder when it is
// to be exact.
func (s *Service) means(asked model.Counting, passed func(done, all int64)) dedup.Means {
	m := dedup.Means{Budget: asked.Budget, Passed: passed}
	if asked.Exact {
		m.Scratch = s.scratch
	}
	return m
}

// scratch makes a file in the work folder that has no name: it is gone when it is
// closed, and when the service ends.
func (s *Service) scratch() (dedup.ScratchFile, error) {
	if err := s.makeWorkFolder(); err != nil {
		return nil, err
	}
	f, err := os.CreateTemp(s.workFolder, "sorted-")
	if err != nil {
		return nil, err
	}
	if err := os.Remove(f.Name()); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

// countingFault is what went wrong with counting, in words where it was the work folder.
func (s *Service) countingFault(err error) error {
	if errors.Is(err, syscall.ENOSPC) {
		return fault.New(fault.Unavailable, "make room there, or set work_folder to a larger disk", "the work folder %s is full", s.workFolder).Because(err)
	}
	return err
}

func (s *Service) makeWorkFolder() error {
	if err := os.MkdirAll(s.workFolder, 0o700); err != nil {
		return fault.New(fault.Unavailable, "set work_folder to a folder that the service may write", "the work folder cannot be made: %v", err)
	}
	return nil
}

// elsewhere refuses the work folder when it seems to lie on the storage
// under a place: what is written there would change what is estimated.
func (s *Service) elsewhere(ctx context.Context, field, otherwise string, p model.DedupPlace) error {
	here, err := spaceOf(ctx, s.workFolder)
	if err != nil {
		return err
	}
	t, reach, err := s.openPlace(ctx, p)
	if err != nil {
		return err
	}
	defer t.Close()
	there, err := t.Space(ctx)
	if err != nil {
		return estate.Unavailable(reach.Server, err)
	}
	if here.Total == there.Total && max(here.Free-there.Free, there.Free-here.Free) < here.Total/1000 {
		return fault.Field(field, "set work_folder to another disk; "+otherwise, "the work folder %s seems to lie on the volume itself: it has as much room as %s, %s", s.workFolder, placeName(p), humanize.IBytes(uint64(here.Total)))
	}
	return nil
}
