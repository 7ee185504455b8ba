package main

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"sync/atomic"
	"time"

	"bridgespan/core/dedup"
	"bridgespan/model"
	"bridgespan/mover/estimate"
	"bridgespan/records"
	"bridgespan/tree"
	"bridgespan/tree/folder"
	"bridgespan/tree/smb"
)

// The mixed data that is estimated: 64 files of 64 MiB, some of noise, some of text,
// some copies, some of zeros.
const (
	mixedFiles = 64
	mixedSize  = 64 << 20
	mixedMiB   = mixedFiles * mixedSize >> 20
)

// dedupOneCore compares reading 4 GiB for an estimate, on one core, with sha256sum,
// which reads on one, too. It is to be 2.5 times as fast.
var dedupOneCore = benchmark{name: "dedup-one-core", unit: "MiB/s", bar: 2.5, turns: 3, prepare: func(ctx context.Context, after *endings) (way, way, error) {
	m, err := newMixed(after)
	if err != nil {
		return nil, nil, err
	}
	return m.estimate(1), func(ctx context.Context) (float64, error) {
		began := time.Now()
		if out, err := exec.CommandContext(ctx, "sha256sum", m.names...).CombinedOutput(); err != nil {
			return 0, fmt.Errorf("sha256sum: %w: %s", err, out)
		}
		return mixedMiB / time.Since(began).Seconds(), nil
	}, nil
}}

// dedupTwoCores compares two cores with one. They are to be 1.7 times as fast.
var dedupTwoCores = benchmark{name: "dedup-two-cores", unit: "MiB/s", bar: 1.7, turns: 3, prepare: func(ctx context.Context, after *endings) (way, way, error) {
	m, err := newMixed(after)
	if err != nil {
		return nil, nil, err
	}
	return m.estimate(2), m.estimate(1), nil
}}

type mixed struct {
	tree  *folder.Tree
	names []string
}

func newMixed(after *endings) (*mixed, error) {
	dir, err := workFolder()
	if err != nil {
		return nil, err
	}
	m := &mixed{}
	content := make([]byte, mixedSize)
	for i := range mixedFiles {
		switch source := rand.NewChaCha8([32]byte{byte(i - i%8/7)}); i % 8 { // the last of eight is a copy of the one before
		case 0:
			clear(content)
		case 1, 2:
			text := make([]byte, 0, len(content))
			for n := 0; len(text) < len(content); n++ {
				text = fmt.Appendf(text, "%08d,%016x,Quercus robur,germinates\n", n+i, source.Uint64())
			}
			copy(content, text)
		default:
			_, _ = source.Read(content)
		}
		name := filepath.Join(dir, fmt.Sprintf("mixed%02d", i))
		if err := os.WriteFile(name, content, 0o600); err != nil {
			return nil, err
		}
		m.names = append(m.names, name)
	}
	m.tree, err = folder.Open(dir)
	if err == nil {
		after.do(func() { m.tree.Close() })
	}
	return m, err
}

// estimate reads all of it for an estimate, on some cores.
func (m *mixed) estimate(cores int) way {
	return func(ctx context.Context) (float64, error) {
		defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(cores))
		began := time.Now()
		err := readAll(ctx, m.tree, cores, mixedFiles*mixedSize)
		return mixedMiB / time.Since(began).Seconds(), err
	}
}

// readAll reads a volume for an estimate.
func readAll(ctx context.Context, t tree.Tree, readers int, want int64) error {
	w := &estimate.Work{Places: []estimate.Place{{Name: "bench", Tree: t}}, Store: &listStore{}, Profile: dedup.Documents, Compression: dedup.OfSample, Budget: 512 << 20, Readers: readers, Tries: 1}
	if err := errors.Join(w.Look(ctx), w.Read(ctx)); err != nil {
		return err
	}
	if p := w.Progress(); p.Bytes != want || p.Trouble != 0 {
		return fmt.Errorf("it read %+v, %v", p, w.Troubles())
	}
	return nil
}

// listStore keeps in memory what is to be read.
type listStore struct{ unread []dedup.Record }

func (s *listStore) Children(context.Context, int, string) ([]dedup.Record, error) { return nil, nil }

func (s *listStore) Sum(context.Context, int, string) (sum [16]byte, err error) { return sum, nil }

func (s *listStore) KeepSum(context.Context, int, string, [16]byte) error { return nil }

func (s *listStore) Save(_ context.Context, list []dedup.Record) error {
	for _, r := range list {
		if r.Unread != "" {
			s.unread = append(s.unread, r)
		}
	}
	return nil
}

func (s *listStore) Forget(context.Context, int, string, []string) error { return nil }

func (s *listStore) Unread(_ context.Context, after *dedup.Record, _ int) ([]dedup.Record, error) {
	if after != nil {
		return nil, nil
	}
	return s.unread, nil
}

// dedupMemory counts the prints of 500 GB in different chunks, and tells how often
// what that takes fits into its budget; dedupExact counts all of them, with sorted
// files for what does not fit.
var (
	dedupMemory = benchmark{name: "dedup-memory", unit: "times into 512 MiB", bar: 1, turns: 1, prepare: func(context.Context, *endings) (way, way, error) {
		return func(ctx context.Context) (float64, error) { return countMany(ctx, nil) }, one, nil
	}}
	dedupExact = benchmark{name: "dedup-exact", unit: "times into 512 MiB", bar: 1, turns: 1, prepare: func(context.Context, *endings) (way, way, error) {
		dir, err := workFolder()
		return func(ctx context.Context) (float64, error) {
			return countMany(ctx, func() (dedup.ScratchFile, error) { return os.CreateTemp(dir, "sorted-") })
		}, one, err
	}}
)

func one(context.Context) (float64, error) { return 1, nil }

// manyChunks is a volume of chunks that are all different: the same at every pass.
type manyChunks struct {
	bytes int64 // of all files, once they were passed
}

// Of what the volume is made.
const (
	manyBytes    = int64(500e9)
	manyEach     = 44 << 10 // bytes of a chunk, on average
	manyInFile   = 1000
	manyFiles    = manyBytes / manyEach / manyInFile
	countingOnly = 512 << 20
)

func (m *manyChunks) Each(_ context.Context, do func(dedup.Record) error) error {
	r := rand.New(rand.NewPCG(1, 2))
	m.bytes = 0
	f := dedup.Record{Path: "file", Modified: time.Now().AddDate(-1, 0, 0)}
	for range manyFiles {
		f.Size, f.Summary.Marks = 0, f.Summary.Marks[:0]
		for range manyInFile {
			c := dedup.Mark{Length: uint32(manyEach/2 + r.IntN(manyEach))}
			binary.LittleEndian.PutUint64(c.Print[:8], r.Uint64())
			binary.LittleEndian.PutUint64(c.Print[8:], r.Uint64())
			c.Packed = c.Length
			f.Size += int64(c.Length)
			f.Summary.Marks = append(f.Summary.Marks, c)
		}
		f.Summary.Chunks = manyInFile
		m.bytes += f.Size
		if err := do(f); err != nil {
			return err
		}
	}
	return nil
}

func (*manyChunks) Equals(context.Context, func(dedup.Record) error) error { return nil }
func (*manyChunks) Files(context.Context) (int64, error)                   { return manyFiles, nil }
func (*manyChunks) Doubles(context.Context) ([]dedup.Record, error)        { return nil, nil }

func countMany(ctx context.Context, scratch dedup.Scratch) (float64, error) {
	runtime.GC()
	watched, stop := context.WithCancel(ctx)
	defer stop()
	var most atomic.Uint64
	go watchMemory(watched, &most)
	began := time.Now()
	volume := &manyChunks{}
	found, err := dedup.Analyse(ctx, volume, []string{"bench"}, []string{"bench"}, dedup.Policy{Profile: dedup.Documents, Compression: dedup.OfAll}, dedup.Means{Budget: countingOnly, Scratch: scratch}, time.Now())
	if err != nil {
		return 0, err
	}
	t := &found.Totals
	if scratch != nil && (!t.Exact || t.Unique.Bytes != volume.bytes) {
		return 0, fmt.Errorf("%d of %d bytes were found, exactly: %v", t.Unique.Bytes, volume.bytes, t.Exact)
	}
	fmt.Fprintf(os.Stderr, "%d chunks in %.1f s, %d MB, one in %d counted; unique %.2f%% off, within %.2f%%\n", t.Chunks, time.Since(began).Seconds(), most.Load()/1e6, t.Sampled,
		100*float64(t.Unique.Bytes-t.Bytes)/float64(t.Bytes), 50*float64(t.Unique.High-t.Unique.Low)/float64(t.Bytes))
	return float64(countingOnly) / float64(most.Load()), nil
}

// dedupShare compares reading for an estimate over SMB with what the SMB library reads
// of the same file by itself, in order.
var dedupShare = benchmark{name: "dedup-share", unit: "MB/s", bar: 0.85, turns: 5, prepare: func(ctx context.Context, after *endings) (way, way, error) {
	server, err := startFileServer(after)
	if err != nil {
		return nil, nil, err
	}
	if err := putRandomFile(ctx, server); err != nil {
		return nil, nil, err
	}
	session, err := smb.Dial(ctx, smb.Target{Address: server.HostPort(), Account: account, Password: password})
	if err != nil {
		return nil, nil, err
	}
	after.do(func() { session.Close() })
	t, err := session.Tree(ctx, "files", "")
	if err != nil {
		return nil, nil, err
	}
	return func(ctx context.Context) (float64, error) {
			return rate(func() (int64, error) { return fileSize, readAll(ctx, t, 2, fileSize) })
		}, func(ctx context.Context) (float64, error) {
			return rate(func() (int64, error) { return readSMB(ctx, server, readInOrder) })
		}, nil
}}

// dedupAgain compares a second estimate of 200,000 unchanged files, with its records in
// a database, with a bare listing of them. It may take 1.3 times as long.
var dedupAgain = benchmark{name: "dedup-again", unit: "files/s", bar: 1 / 1.3, prepare: prepareDedupAgain}

func prepareDedupAgain(ctx context.Context, after *endings) (ours, reference way, err error) {
	const files = unchangedFiles
	f, t, err := unchangedFolder(ctx, after)
	if err != nil {
		return nil, nil, err
	}
	var volume int64
	err = f.db.Change(ctx, func(tx *records.Tx) error {
		volume, err = tx.AddDedupVolume(ctx, model.DedupVolume{Name: "bench", Profile: string(dedup.Documents), Created: time.Now().UTC()})
		return err
	})
	if err != nil {
		return nil, nil, err
	}
	// Counting is not done again when nothing has changed: see service/estimates.
	look := func(ctx context.Context) (p estimate.Progress, counted bool, err error) {
		w := &estimate.Work{Places: []estimate.Place{{Name: "bench", Tree: t}}, Store: f.db.Dedup(volume), Profile: dedup.Documents, Budget: 64 << 20, Readers: 2, Tries: 1}
		if err := errors.Join(w.Look(ctx), w.Read(ctx)); err != nil {
			return p, false, err
		}
		v, err := f.db.DedupVolumeNumbered(ctx, volume)
		if err != nil || v.Counted != 0 {
			return w.Progress(), v.Counted != 0, err
		}
		_, err = dedup.Analyse(ctx, f.db.Dedup(volume), []string{"bench"}, []string{"bench"}, dedup.Policy{Profile: dedup.Documents}, dedup.Means{Budget: 64 << 20}, time.Now())
		if err == nil {
			err = f.db.Change(ctx, func(tx *records.Tx) error {
				return tx.KeepEstimate(ctx, volume, model.EstimatePoint{Run: 1, At: time.Now().UTC()})
			})
		}
		return w.Progress(), false, err
	}
	if p, _, err := look(ctx); err != nil || p.Files != files {
		return nil, nil, fmt.Errorf("the first estimate read %+v: %w", p, err)
	}
	return func(ctx context.Context) (float64, error) {
			began := time.Now()
			p, counted, err := look(ctx)
			if err == nil && (p.Found != files || p.Files != 0 || !counted) {
				err = fmt.Errorf("the second estimate read %+v; counted before: %v", p, counted)
			}
			return files / time.Since(began).Seconds(), err
		}, func(ctx context.Context) (float64, error) {
			return listBarely(ctx, t, tree.Plain)
		}, nil
}
