package dedup

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"reflect"
	"slices"
	"testing"
	"time"

	"bridgespan/core/fault"
)

// disk is where scratch files are, as a test has it.
type disk struct {
	open, made int
	written    int64
	room       int64 // bytes that can be written; 0 for no bound
	broken     bool  // nothing can be read
}

func newDisk() *disk { return &disk{} }

var errFull, errBroken = errors.New("full"), errors.New("broken")

func (d *disk) create() (ScratchFile, error) {
	d.open++
	d.made++
	return &diskFile{disk: d}, nil
}

type diskFile struct {
	disk    *disk
	content []byte
}

func (f *diskFile) Write(b []byte) (int, error) {
	if f.disk.written += int64(len(b)); f.disk.room > 0 && f.disk.written > f.disk.room {
		return 0, errFull
	}
	f.content = append(f.content, b...)
	return len(b), nil
}

func (f *diskFile) ReadAt(b []byte, at int64) (int, error) {
	if f.disk.broken {
		return 0, errBroken
	}
	return bytes.NewReader(f.content).ReadAt(b, at)
}

func (f *diskFile) Close() error {
	f.disk.open--
	return nil
}

// listed are records that a test made.
type listed struct {
	records []Record
	passes  int
	told    int                       // files
	later   func(pass int, r *Record) // changes what is told at a later pass
}

func recordsOf(files []*File) *listed {
	l := &listed{}
	for i, f := range files {
		l.records = append(l.records, Record{Path: fmt.Sprint("bed/", i, ".tif"), Size: f.Size, Modified: f.Modified.Add(time.Duration(i)), Owner: f.Owner, Unread: f.Unread, Summary: f.Summary})
	}
	return l
}

func (l *listed) Each(_ context.Context, do func(Record) error) error {
	l.passes++
	for _, r := range l.records {
		l.told++
		if l.later != nil {
			l.later(l.passes, &r)
		}
		if err := do(r); err != nil {
			return err
		}
	}
	return nil
}

func (l *listed) Equals(_ context.Context, do func(Record) error) error {
	sorted := slices.Clone(l.records)
	slices.SortStableFunc(sorted, func(a, b Record) int { return bytes.Compare(a.Summary.Digest[:], b.Summary.Digest[:]) })
	for _, r := range sorted {
		if err := do(r); err != nil {
			return err
		}
	}
	return nil
}

func (l *listed) Files(context.Context) (int64, error)      { return int64(len(l.records)), nil }
func (l *listed) Doubles(context.Context) ([]Record, error) { return nil, nil }

// aged is a made-up volume of files of all ages, of which one in four is five days old.
func aged(seed uint64, chunks int) (*listed, Policy) {
	files, _, _ := madeUp(rand.New(rand.NewPCG(seed, 9)), chunks)
	for i, f := range files {
		f.Modified = now.AddDate(0, 0, -i*400/len(files)) // the youngest first
		if i%4 == 1 {
			f.Modified = now.AddDate(0, 0, -5)
		}
		for j := range f.Summary.Marks { // all are compressed, and one in three chunks comes again and again
			m := &f.Summary.Marks[j]
			m.Packed = m.Length / 2
			if m.Length%3 == 0 {
				m.Print, m.Length, m.Packed = Print{byte(m.Length), 7}, 4096, 100
			}
		}
		f.Summary.Digest = [16]byte{byte(i), byte(i >> 8), 1}
	}
	p := Policy{Profile: Documents, Compression: OfAll}
	p.Rules.MinDays = 10
	return recordsOf(files), p
}

func analyseWith(l *listed, p Policy, m Means) (Found, error) {
	return Analyse(context.Background(), l, []string{"fern/beds"}, []string{"fern"}, p, m, now)
}

// However little memory there is, sorted files tell what much memory would.
func TestExactPastTheBudget(t *testing.T) {
	l, policy := aged(1, 60_000)
	want, err := analyseWith(l, policy, Means{Budget: 64 << 20})
	if err != nil || !want.Totals.Exact || want.Totals.Saving.Bytes == 0 || len(want.Where.Popular) == 0 {
		t.Fatalf("%+v %v", want.Totals, err)
	}
	sampled, err := analyseWith(l, policy, Means{Budget: LeastBudget})
	if err != nil || sampled.Totals.Exact {
		t.Fatalf("memory was not too little: %+v %v", sampled.Totals, err)
	}
	for _, budget := range []int64{LeastBudget, 64 << 20} {
		d := newDisk()
		var done, all int64
		got, err := analyseWith(l, policy, Means{Budget: budget, Scratch: d.create, Passed: func(n, of int64) { done, all = n, of }})
		if err != nil {
			t.Fatal(err)
		}
		// Chunks that spare the same may come in another order.
		popular := func(f *Found) { f.Where.Popular, f.Where.Near = nil, nil }
		if got.Where.Popular[0].Spares != want.Where.Popular[0].Spares || len(got.Where.Popular) != len(want.Where.Popular) {
			t.Errorf("shared most: %+v", got.Where.Popular)
		}
		w := want
		popular(&w)
		popular(&got)
		if !reflect.DeepEqual(got, w) {
			t.Errorf("with %d bytes:\n%+v\nwant\n%+v", budget, got.Totals, w.Totals)
		}
		if d.open != 0 || (d.made == 0) != (budget > LeastBudget) {
			t.Errorf("with %d bytes: %d files made, %d left open", budget, d.made, d.open)
		}
		if done == 0 || done > all || all != passes*int64(len(l.records)) {
			t.Errorf("passed over %d of %d", done, all)
		}
	}
}

// What is left of a summary that was thinned is a sample, also with sorted files.
func TestExactOfThinned(t *testing.T) {
	l, policy := aged(2, 20_000)
	want, err := analyseWith(l, policy, Means{Budget: 64 << 20})
	if err != nil {
		t.Fatal(err)
	}
	l.records[len(l.records)/2].Summary.Thin(2)
	got, err := analyseWith(l, policy, Means{Budget: LeastBudget, Scratch: newDisk().create})
	if err != nil {
		t.Fatal(err)
	}
	if s := got.Totals.Saving; got.Totals.Exact || got.Totals.Sampled != 4 || s.Low > want.Totals.Saving.Bytes || s.High < want.Totals.Saving.Bytes {
		t.Errorf("%+v, truly %+v", got.Totals, want.Totals)
	}
}

// What goes wrong with the files is told, and none is left.
func TestScratchFaults(t *testing.T) {
	for name, c := range map[string]struct {
		spoil func(*disk, *listed) Scratch
		want  func(error) bool
	}{
		"full":     {func(d *disk, _ *listed) Scratch { d.room = 2 << 20; return d.create }, func(err error) bool { return errors.Is(err, errFull) }},
		"full now": {func(d *disk, _ *listed) Scratch { d.room = 1; return d.create }, func(err error) bool { return errors.Is(err, errFull) }},
		"broken":   {func(d *disk, _ *listed) Scratch { d.broken = true; return d.create }, func(err error) bool { return errors.Is(err, errBroken) }},
		"none":     {func(*disk, *listed) Scratch { return func() (ScratchFile, error) { return nil, errFull } }, func(err error) bool { return errors.Is(err, errFull) }},
		"a file that was changed meanwhile": {func(d *disk, l *listed) Scratch {
			l.later = func(pass int, r *Record) {
				if pass > 1 && r.Path == "bed/2002.tif" {
					r.Summary.Marks = slices.Clone(r.Summary.Marks)
					r.Summary.Marks[0].Print[9] ^= 1
				}
			}
			return d.create
		}, func(err error) bool { return fault.KindOf(err) == fault.Stale }},
		"a file that came meanwhile": {func(d *disk, l *listed) Scratch {
			l.later = func(pass int, r *Record) {
				if pass > 1 && r.Path == "bed/2006.tif" {
					r.Summary.Marks = append(slices.Clone(r.Summary.Marks), r.Summary.Marks...)
				}
			}
			return d.create
		}, func(err error) bool { return fault.KindOf(err) == fault.Stale }},
	} {
		t.Run(name, func(t *testing.T) {
			l, policy := aged(3, 60_000)
			d := newDisk()
			_, err := analyseWith(l, policy, Means{Budget: LeastBudget, Scratch: c.spoil(d, l)})
			if !c.want(err) {
				t.Errorf("%v", err)
			}
			if d.open != 0 {
				t.Errorf("%d files are left open", d.open)
			}
			if name == "full now" && l.told > len(l.records)/2 {
				t.Errorf("%d of %d files were passed over though nothing could be kept", l.told, len(l.records))
			}
		})
	}
}

func TestSorter(t *testing.T) {
	for _, c := range []struct {
		count  int
		budget int64
		files  bool
	}{{0, 1 << 20, false}, {1, 1 << 20, false}, {100, 1, true}, {5000, 640, true}, {5000, 1 << 20, false}, {100_000, 64 << 10, true}} {
		d := newDisk()
		s := newSorter[occurrence](c.budget, d.create)
		r := rand.New(rand.NewPCG(uint64(c.count), 1))
		var want []occurrence
		for i := range c.count {
			o := occurrence{mark: Mark{Print: Print{byte(r.IntN(50)), byte(r.IntN(4))}, Length: r.Uint32()}, at: uint64(i)}
			want = append(want, o)
			if err := s.add(o); err != nil {
				t.Fatal(err)
			}
		}
		slices.SortFunc(want, func(a, b occurrence) int { return a.compare(&b) })
		if err := s.finish(); err != nil {
			t.Fatal(err)
		}
		one, other := s.pass(), s.pass()
		for _, m := range []*merging[occurrence, *occurrence]{one, other} {
			var got []occurrence
			next, err := m.next()
			for ; err == nil; next, err = m.next() {
				got = append(got, *next)
			}
			if !errors.Is(err, io.EOF) || !slices.Equal(got, want) {
				t.Errorf("%d in %d bytes: %d come out (%v)", c.count, c.budget, len(got), err)
			}
		}
		if (d.made > 0) != c.files || d.open > s.fanIn {
			t.Errorf("%d in %d bytes: %d files made, %d open", c.count, c.budget, d.made, d.open)
		}
		if err := s.close(); err != nil || d.open != 0 {
			t.Errorf("%d files are left open: %v", d.open, err)
		}
	}
}
