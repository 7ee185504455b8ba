// Package replication keeps the replicas of a set the same, over any trees.
//
// A [Engine.Scan] compares what a replica shows with its records and reads only
// what changed; every change is put into the backlog of the lanes that lead
// away. [Engine.Carry] works a lane's backlog off: the rules of core/replica
// say what is to be done about each path, and it is done so that it can be
// broken off at any step. What is about to be done is written into the record
// first; what is found pending later is finished or taken back. So nothing that
// the engine wrote is taken for a change made there, and nothing is ever half
// there under its own name.
package replication

import (
	"cmp"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"sync"
	"time"

	"github.com/zeebo/blake3"

	"bridgespan/core/replica"
	"bridgespan/mover/transfer"
	"bridgespan/tree"
)

// Where a replica keeps what is its own.
const (
	workFolder   = ".bspan"
	intakeFolder = transfer.IntakeFolder
	atticFolder  = workFolder + "/attic"
)

// Replica is one place of the set.
type Replica struct {
	ID   replica.ID
	Name string
	Tree tree.Tree
	// Seed is true of the replica whose content wins the first fill.
	Seed bool
	// Scanned is true when all of it was seen once.
	Scanned bool
	// Filled is true when it has had all that the set had: what it lacks was
	// removed from then on. A seed is filled when it is scanned.
	Filled bool
	// Intake is how many bytes may be on their way in at a time, but for a file
	// that is larger by itself; 0 for no bound.
	Intake int64
	// AsStub says whether a file that comes to a path where nothing is, or a stub, becomes a stub there; nil never does. It needs a
	// tree that holds stubs, and a hub that is a bucket.
	AsStub func(name string, size int64, modified time.Time) bool
	// Received is called for each whole file that was transferred there and is new, or takes the place of a stub. It may be called side
	// by side, and be nil.
	Received func(name string, size int64)

	// Removals tells how much may be removed there at once. RemovalsWait is true while more was, and waits for a decision.
	Removals     replica.RemovalGuard
	RemovalsWait bool
	Decision     replica.Decision
	// Entries is how many files and folders its last scan has seen.
	Entries int64

	removalsInPart bool // a look at a part of the replica alone has found that they wait

	protected time.Time // when its work folder was last looked at
}

// Engine keeps the replicas of one set the same. Looks and
// carries may run side by side (looks at one replica take turns); no other engine may work on
// the same set meanwhile.
type Engine struct {
	// Set names the set, in the marks of its replicas.
	Set      string
	Store    Store
	Replicas []*Replica
	Lanes    []replica.Lane
	Now      func() time.Time
	// Unique makes a name that was never used.
	Unique func() string
	// Trouble is told what could not be done, and why. It is tried again. It may
	// be called side by side.
	Trouble func(Trouble)
	// Repaired is told of records that were put right. It may be called side by side, and
	// be nil.
	Repaired func(Repair)
	// FolderGone is told of a folder that was found gone otherwise than by a scan of all:
	// whoever moved it has put it where nobody has looked yet. It may be called side by
	// side, and be nil.
	FolderGone func(id replica.ID)
	// Busied is told the folders in which a look found that people changed
	// something, and how much. It may be called side by side, and be nil.
	Busied func(id replica.ID, folder string, changes int)
	// RemovalsWait is told what waits for a decision at a replica, after each scan while something does; and of no files when
	// nothing does any more. It may be called side by side, and be nil.
	RemovalsWait func(id replica.ID, waiting replica.Removals)
	// LeaveOut says what the set is not about: it stays where it is, as it is. nil
	// leaves nothing out.
	LeaveOut func(name string, entry tree.Entry) bool
	// LeaveOutByTime says that LeaveOut heeds when a file was changed.
	LeaveOutByTime bool
	// LeavePermissions lets each replica have its own permissions and attributes.
	LeavePermissions bool
	// Pace is asked before so many bytes are carried; it returns when they may be.
	// nil never waits.
	Pace func(ctx context.Context, lane replica.Lane, bytes int) error
	// Hands is how many files are read or written side by side by one scan or
	// carry; 0 means 8, with many more that wait to be lasting.
	Hands int
	// Transfers are the settings of transfers.
	Transfers transfer.Settings

	mostAbsent int // in the place of the constant of this name; 0 for that

	claims       claims
	known        known
	mu           sync.Mutex // of what follows, and of what changes of the replicas
	endpoints    map[replica.ID]*transfer.Endpoint
	looks        map[replica.ID]*sync.Mutex
	lanes        map[replica.Lane]*progress
	suspects     map[replica.ID]map[string]string // paths that are to be looked at again, and why
	audited      map[replica.ID]bool
	nested       map[replica.ID]error // set while another replica was found inside
	topPermitted map[replica.ID]bool  // replicas whose top has permissions, or cannot have any
}

// folderGone passes on that a folder was found gone.
func (e *Engine) folderGone(r *Replica) {
	if e.FolderGone != nil {
		e.FolderGone(r.ID)
	}
}

func (e *Engine) hands() int { return cmp.Or(e.Hands, 8) }

// waiting is how many tasks are under way side by side: those who wait for
// what they have written to be lasting, or for the records, wait together.
func (e *Engine) waiting() int { return cmp.Or(e.Hands, 2048) }

// State says whether a replica was scanned and is filled.
func (e *Engine) State(id replica.ID) (scanned, filled bool) {
	r := e.replica(id)
	return e.state(r)
}

// Entries is how many files and folders a replica has, as far as is known.
func (e *Engine) Entries(id replica.ID) int64 {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.replica(id).Entries
}

func (e *Engine) state(r *Replica) (scanned, filled bool) {
	e.mu.Lock()
	defer e.mu.Unlock()
	return r.Scanned, r.Filled
}

func (e *Engine) scanned(r *Replica) bool {
	scanned, _ := e.state(r)
	return scanned
}

func (e *Engine) filled(r *Replica) bool {
	_, filled := e.state(r)
	return filled
}

// Trouble is something that could not be done.
type Trouble struct {
	Replica string
	Path    string
	Err     error
}

// Errors of paths that are not carried.
var (
	errClash = errors.New("its name differs from another only in case")
	errKind  = errors.New("it is neither a file nor a folder")
	// errMoved: what was to be changed is no longer what was decided on.
	errMoved = tree.ErrChanged
	// errLater: something else must be done first, or is being done.
	errLater = errors.New("something else must be done first")
	// errBusy is errLater where another task or a scan is at work on a path.
	errBusy = fmt.Errorf("%w: another task is at work on it", errLater)
)

// later is errLater with what must be done first.
func later(first string) error { return fmt.Errorf("%w: %s", errLater, first) }

func (e *Engine) replica(id replica.ID) *Replica {
	for _, r := range e.Replicas {
		if r.ID == id {
			return r
		}
	}
	panic(fmt.Sprintf("no replica %d", id))
}

func (e *Engine) trouble(r *Replica, path string, err error) {
	if e.Trouble != nil {
		e.Trouble(Trouble{r.Name, path, err})
	}
}

// outOf are the lanes that lead away from a replica, but for the one to a
// replica that knows already.
func (e *Engine) outOf(r *Replica, knows replica.ID) (lanes []replica.Lane) {
	for _, l := range e.Lanes {
		if l.From == r.ID && l.To != knows {
			lanes = append(lanes, l)
		}
	}
	return lanes
}

// into are the lanes that lead to a replica.
func (e *Engine) into(r *Replica) (lanes []replica.Lane) {
	for _, l := range e.Lanes {
		if l.To == r.ID {
			lanes = append(lanes, l)
		}
	}
	return lanes
}

// keyOf is the key of a path: all replicas compare names alike, whatever they
// tell apart themselves.
func keyOf(path string) string { return tree.Key(path, false) }

func parentKey(key string) string { return path.Dir(key) }

// pathOf is where a record's path is at a replica. other is a record that knows
// the name if this one does not.
func (e *Engine) pathOf(ctx context.Context, r *Replica, rec, other *replica.Record) (string, error) {
	above, err := e.spelled(ctx, r, parentKey(rec.Key))
	return replica.Below(above, nameOf(rec, other)), err
}

// nameOf is how what a record is about is spelled.
func nameOf(rec, other *replica.Record) string {
	return cmp.Or(rec.Name, other.Name, path.Base(rec.Key))
}

// seenOf is what a replica shows of an entry.
func (e *Engine) seenOf(entry tree.Entry) replica.Seen {
	s := replica.Seen{ID: idOf(entry)}
	if !e.LeavePermissions {
		s.Descriptor, s.Attributes = entry.Descriptor, uint32(entry.Attributes)
	}
	if entry.Kind == tree.File {
		// As the store gives times back: two that are one moment must be equal.
		s.Size, s.Modified = entry.Size, entry.Modified.Round(0).UTC()
	}
	return s
}

// detail is how much of each entry is looked at.
func (e *Engine) detail() tree.Detail {
	if e.LeavePermissions {
		return tree.Plain
	}
	return tree.WithDescriptors
}

func kindOf(e tree.Entry) replica.Kind {
	switch e.Kind {
	case tree.File:
		return replica.File
	case tree.Folder:
		return replica.Folder
	}
	return replica.None
}

// idOf is the number of an entry. Where a tree tells versions, it stands for the version.
func idOf(e tree.Entry) uint64 {
	if e.ID != 0 || e.Version == "" {
		return e.ID
	}
	sum := blake3.Sum256([]byte(e.Version))
	return binary.LittleEndian.Uint64(sum[:])
}

// asKept reports whether an entry is as its record has seen it, apart from permissions.
func asKept(rec *replica.Record, e tree.Entry) bool {
	switch {
	case kindOf(e) != rec.Kind:
		return false
	case rec.Kind != replica.File:
		return true
	case rec.Seen.ID != 0 && idOf(e) != 0 && rec.Seen.ID != idOf(e):
		return false
	}
	return e.Size == rec.Seen.Size && e.Modified.Equal(rec.Seen.Modified)
}

// unchanged reports whether what is at a path is what its record has seen there.
func unchanged(ctx context.Context, r *Replica, path string, rec *replica.Record) (bool, error) {
	e, err := r.Tree.Stat(ctx, path)
	if absent(err) {
		return rec.Kind == replica.None, nil
	}
	if err != nil {
		return false, err
	}
	return rec.Kind != replica.None && asKept(rec, e), nil
}

func absent(err error) bool {
	return errors.Is(err, fs.ErrNotExist) || errors.Is(err, tree.ErrKind)
}

// own reports whether a name is the engine's, not people's.
func own(name string) bool { return tree.Reserved(name) }
