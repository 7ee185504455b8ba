package dedup

import (
	"bufio"
	"container/heap"
	"errors"
	"io"
	"slices"
	"unsafe"
)

// Scratch makes a file that is written once, from its beginning, and read as often as
// needed; what was in it is gone once it is closed.
type Scratch func() (ScratchFile, error)

// ScratchFile is a file for what does not fit into memory; an *os.File is one.
type ScratchFile interface {
	io.Writer
	io.ReaderAt
	io.Closer
}

// sorted is what a sorter sorts.
type sorted[T any] interface {
	// compare is negative when it comes before another, and 0 when they are the same.
	compare(other *T) int
	// append appends its form, which has the same length for all of them.
	append(b []byte) []byte
	// read reads what append wrote.
	read(b []byte)
	*T
}

// sorter sorts more than fits into memory: what was collected goes sorted into a file
// whenever memory is full, and the files are merged (Knuth, "The Art of Computer
// Programming", volume 3, section 5.4.1). Close must be called.
type sorter[T any, P sorted[T]] struct {
	scratch Scratch
	held    []T
	most    int // of held
	width   int // bytes of the form of one
	fanIn   int // files that are merged at once
	runs    []sortedRun
}

// sortedRun is a file of so many, in order.
type sortedRun struct {
	file  ScratchFile
	count int64
}

// mergeBuffer is how many bytes of a file are read at once.
const mergeBuffer = 32 << 10

// newSorter makes a sorter that takes no more than budget bytes of memory while it
// collects, and half as much for each pass over what is sorted.
func newSorter[T any, P sorted[T]](budget int64, scratch Scratch) *sorter[T, P] {
	var one T
	return &sorter[T, P]{scratch: scratch, most: max(int(budget/int64(unsafe.Sizeof(one))), 1), width: len(P(&one).append(nil)),
		fanIn: min(max(int(budget/2/mergeBuffer), 4), 256)}
}

// add takes one.
func (s *sorter[T, P]) add(one T) error {
	if len(s.held) == s.most {
		if err := s.spill(); err != nil {
			return err
		}
	}
	if len(s.held) == cap(s.held) { // no further than it may
		s.held = append(make([]T, 0, min(max(2*cap(s.held), 1<<10), s.most)), s.held...)
		tidy(cap(s.held))
	}
	s.held = append(s.held, one)
	return nil
}

func (s *sorter[T, P]) sort() {
	slices.SortFunc(s.held, func(a, b T) int { return P(&a).compare(&b) })
}

// spill writes what is held into a file.
func (s *sorter[T, P]) spill() error {
	s.sort()
	held := s.held
	s.held = s.held[:0]
	return s.write(func() (*T, error) {
		if len(held) == 0 {
			return nil, io.EOF
		}
		one := &held[0]
		held = held[1:]
		return one, nil
	})
}

// write writes what next gives into a file, until it gives io.EOF.
func (s *sorter[T, P]) write(next func() (*T, error)) error {
	file, err := s.scratch()
	if err != nil {
		return err
	}
	run := sortedRun{file: file}
	w := bufio.NewWriterSize(file, mergeBuffer)
	form := make([]byte, 0, s.width)
	for err == nil {
		var one *T
		if one, err = next(); err == nil {
			_, err = w.Write(P(one).append(form[:0]))
			run.count++
		}
	}
	if errors.Is(err, io.EOF) {
		err = w.Flush()
	}
	if err != nil {
		return errors.Join(err, file.Close())
	}
	s.runs = append(s.runs, run)
	return nil
}

// finish ends the collecting: what is sorted can then be passed over.
func (s *sorter[T, P]) finish() error {
	if len(s.runs) == 0 {
		s.sort()
		return nil
	}
	if len(s.held) > 0 {
		if err := s.spill(); err != nil {
			return err
		}
	}
	held := cap(s.held)
	s.held = nil
	tidy(held)
	for len(s.runs) > s.fanIn {
		few := s.runs[:s.fanIn]
		if err := s.write(s.merge(few).next); err != nil {
			return err
		}
		if err := closeRuns(few); err != nil {
			return err
		}
		s.runs = slices.Delete(s.runs, 0, s.fanIn)
	}
	return nil
}

// pass passes over what is sorted.
func (s *sorter[T, P]) pass() *merging[T, P] {
	if len(s.runs) == 0 {
		return &merging[T, P]{held: s.held}
	}
	return s.merge(s.runs)
}

func (s *sorter[T, P]) merge(runs []sortedRun) *merging[T, P] {
	m := &merging[T, P]{form: make([]byte, s.width)}
	for _, r := range runs {
		m.ahead = append(m.ahead, &reading[T]{from: bufio.NewReaderSize(io.NewSectionReader(r.file, 0, r.count*int64(s.width)), mergeBuffer)})
	}
	return m
}

// close gives the files up.
func (s *sorter[T, P]) close() error {
	runs := s.runs
	s.runs, s.held = nil, nil
	return closeRuns(runs)
}

func closeRuns(runs []sortedRun) (err error) {
	for _, r := range runs {
		err = errors.Join(err, r.file.Close())
	}
	return err
}

// merging is a pass over what is sorted.
type merging[T any, P sorted[T]] struct {
	held  []T           // when all is in memory
	ahead []*reading[T] // else the files, as a heap by what comes next in each
	begun bool
	form  []byte
	given T
}

// reading is a file of a merge, and what comes next in it.
type reading[T any] struct {
	from *bufio.Reader
	next T
}

// next gives one after the other; it stands until the next call. Then comes io.EOF.
func (m *merging[T, P]) next() (*T, error) {
	if m.ahead == nil {
		if len(m.held) == 0 {
			return nil, io.EOF
		}
		one := &m.held[0]
		m.held = m.held[1:]
		return one, nil
	}
	if !m.begun {
		if err := m.begin(); err != nil {
			return nil, err
		}
	}
	if len(m.ahead) == 0 {
		return nil, io.EOF
	}
	first := m.ahead[0]
	m.given = first.next
	switch err := m.read(first); {
	case errors.Is(err, io.EOF):
		heap.Pop((*mergeHeap[T, P])(m))
	case err != nil:
		return nil, err
	default:
		heap.Fix((*mergeHeap[T, P])(m), 0)
	}
	return &m.given, nil
}

// begin reads the first of each file.
func (m *merging[T, P]) begin() error {
	m.begun = true
	for _, r := range m.ahead {
		if err := m.read(r); err != nil {
			return err // no file is empty
		}
	}
	heap.Init((*mergeHeap[T, P])(m))
	return nil
}

func (m *merging[T, P]) read(r *reading[T]) error {
	if _, err := io.ReadFull(r.from, m.form); err != nil {
		return err
	}
	P(&r.next).read(m.form)
	return nil
}

// mergeHeap is the order of the files of a merge.
type mergeHeap[T any, P sorted[T]] merging[T, P]

func (h *mergeHeap[T, P]) Len() int { return len(h.ahead) }
func (h *mergeHeap[T, P]) Less(i, j int) bool {
	return P(&h.ahead[i].next).compare(&h.ahead[j].next) < 0
}
func (h *mergeHeap[T, P]) Swap(i, j int) { h.ahead[i], h.ahead[j] = h.ahead[j], h.ahead[i] }
func (h *mergeHeap[T, P]) Push(x any)    { h.ahead = append(h.ahead, x.(*reading[T])) }
func (h *mergeHeap[T, P]) Pop() any {
	last := h.ahead[len(h.ahead)-1]
	h.ahead = h.ahead[:len(h.ahead)-1]
	return last
}
