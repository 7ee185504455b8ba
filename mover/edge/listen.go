package edge

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"unsafe"

	"golang.org/x/sys/unix"

	"bridgespan/guard"
	"bridgespan/tree"
	"bridgespan/tree/folder"
)

// Listener is told by the kernel of every access to files of the volumes that its edges lie on, before
// it takes place, and lets it take place when the bytes are there. Of files that are whole it is told
// once, and then no more for as long as the kernel remembers them.
type Listener struct {
	events *os.File
	null   *os.File // takes the place of files that are closed before their number is free
	own    int32
	// refuses is true for the listener of a guard, which refuses to open and to read stubs.
	refuses bool
	trigger Trigger // that fills stubs

	mu     sync.Mutex
	edges  []*Watched
	onOpen map[uint64]bool // whether stubs of a volume are filled on open, by device
}

// Watched is a folder with stubs.
type Watched struct {
	Path string // of the folder, absolute and without links
	Edge *Edge
	// Refused are names of programs that are given no content of stubs, such as those of backups.
	Refused []string

	trigger Trigger // of its volume
}

// copiers are programs that ask the file system what of a file is there, and take the rest for zeros, without reading
// it: they find whole files.
var copiers = []string{"cp", "mv", "install", "tar", "bsdtar", "qemu-img"}

// The kernel's numbers of what package unix does not know yet (Linux 6.14).
const (
	preAccess    = 0x00100000
	rangeRecord  = 6
	errnoShift   = 24
	ignored      = 0x400 // FAN_MARK_IGNORE
	eventsAtOnce = 64 << 10
)

// ErrNoListener: this host cannot tell of accesses before they take place.
var ErrNoListener = fmt.Errorf("%w: stubs need a kernel that asks before files are opened (fanotify), and the rights of the system's administrator", tree.ErrUnsupported)

// Listen begins to listen for accesses that fill stubs. The caller must call Serve, which ends with Close.
func Listen(trigger Trigger) (*Listener, error) {
	fd, err := unix.FanotifyInit(unix.FAN_CLASS_PRE_CONTENT|unix.FAN_CLOEXEC|unix.FAN_NONBLOCK|unix.FAN_UNLIMITED_QUEUE|unix.FAN_UNLIMITED_MARKS, unix.O_RDONLY|unix.O_LARGEFILE|unix.O_CLOEXEC)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrNoListener, err)
	}
	l, err := listenOn(fd)
	if err == nil {
		l.trigger = trigger
	}
	return l, err
}

func listenOn(fd int) (*Listener, error) {
	null, err := os.Open(os.DevNull)
	if err != nil {
		return nil, errors.Join(err, unix.Close(fd))
	}
	return &Listener{events: os.NewFile(uintptr(fd), "fanotify"), null: null, own: int32(os.Getpid()), onOpen: map[uint64]bool{}}, nil
}

// Close ends listening. Accesses that wait are let through: who closes must have answered them.
func (l *Listener) Close() error { return errors.Join(l.events.Close(), l.null.Close()) }

// ErrSystemVolume: on the system's own volume a fault of ours would stop the whole host.
var ErrSystemVolume = fmt.Errorf("%w: the folder is on the volume of the system or of the mover itself; stubs need a volume of their own", tree.ErrUnsupported)

// may lets the kernel report accesses to a folder, and returns the trigger of its stubs. The error is ErrSystemVolume, or wraps
// ErrNoListener.
func (l *Listener) may(folder string) (Trigger, error) {
	program, err := os.Executable()
	if err != nil {
		return "", err
	}
	device, err := deviceOf(folder)
	if err != nil {
		return "", err
	}
	for _, other := range []string{"/", program} {
		if d, err := deviceOf(other); err != nil || d == device {
			return "", errors.Join(ErrSystemVolume, err)
		}
	}
	for _, m := range l.trigger.choices() {
		if err = l.mark(unix.FAN_MARK_ADD|unix.FAN_MARK_FILESYSTEM, m.events(), unix.AT_FDCWD, folder); err == nil {
			return m, nil
		}
	}
	return "", fmt.Errorf("%w: %w", ErrNoListener, err)
}

// Supported returns the trigger that stubs in a folder would have. The error is ErrSystemVolume, or wraps ErrNoListener. Where the file
// system cannot hold stubs, it wraps [tree.ErrUnsupported].
func Supported(dir string, trigger Trigger) (Trigger, error) {
	l, err := Listen(trigger)
	if err != nil {
		return "", err
	}
	m, err := l.may(dir)
	if err = errors.Join(err, l.Close()); err == nil {
		err = folder.TryStubs(dir)
	}
	return m, err
}

// Add watches a folder. It returns ErrSystemVolume, or an error wrapping ErrNoListener where the file system cannot be watched.
func (l *Listener) Add(w *Watched) error {
	device, err := deviceOf(w.Path)
	if err != nil {
		return err
	}
	w.Edge.listener = l
	l.mu.Lock()
	defer l.mu.Unlock()
	if slices.ContainsFunc(l.edges, func(other *Watched) bool { return other.Path == w.Path }) {
		return fmt.Errorf("%w: %s is watched already", os.ErrExist, w.Path)
	}
	if w.trigger, err = l.may(w.Path); err != nil {
		return err
	}
	l.onOpen[device] = w.trigger == OnOpen
	l.edges = append(l.edges, w)
	return nil
}

// Remove watches a folder no more. Who reads its stubs gets an error.
func (l *Listener) Remove(w *Watched) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.edges = slices.DeleteFunc(l.edges, func(other *Watched) bool { return other == w })
}

// refuse changes the programs that are given no content.
func (l *Listener) refuse(w *Watched, programs []string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	w.Refused = programs
}

func (l *Listener) mark(flags uint, events uint64, at int, name string) error {
	raw, err := l.events.SyscallConn()
	if err != nil {
		return err
	}
	var result error
	err = raw.Control(func(fd uintptr) { result = unix.FanotifyMark(int(fd), flags, events, at, name) })
	return errors.Join(err, result)
}

// triggerOf is the trigger of the stubs of a volume.
func (l *Listener) triggerOf(device uint64) Trigger {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.onOpen[device] {
		return OnOpen
	}
	return OnRead
}

func deviceOf(name string) (uint64, error) {
	var st unix.Stat_t
	err := unix.Stat(name, &st)
	return st.Dev, err
}

// ignore lets the kernel tell no more of an open file that is whole. It forgets that when it needs the memory, and
// nothing is lost then.
func (l *Listener) ignore(fd int) error {
	id, _, err := identityOf(fd)
	if err != nil {
		return err
	}
	return l.mark(unix.FAN_MARK_ADD|ignored|unix.FAN_MARK_IGNORED_SURV_MODIFY|unix.FAN_MARK_EVICTABLE, l.triggerOf(id.device).events(), fd, "")
}

// offload calls do, which makes a stub of an open file with a lease. Reading an event of the file opens the file, and the lease blocks that.
// So our own accesses must cause no events. Opens by other programs must cause them: those programs wait for us, and then for the content.
func (l *Listener) offload(f *os.File, do func() error) error {
	fd := int(f.Fd())
	if err := l.heed(fd); err != nil {
		return err
	}
	if err := folder.Lease(f); err != nil { // another process has opened it while its events were ignored
		return err
	}
	id, _, err := identityOf(fd)
	if err != nil {
		return err
	}
	if l.triggerOf(id.device) == OnRead {
		if err := l.mark(unix.FAN_MARK_ADD|ignored|unix.FAN_MARK_IGNORED_SURV_MODIFY, preAccess, fd, ""); err != nil {
			return err
		}
	}
	return errors.Join(do(), l.heed(fd))
}

// heed lets the kernel report accesses to an open file again. The mark of its volume stays as it is. Kernels without ignore marks return
// EINVAL, and there is nothing to remove.
func (l *Listener) heed(fd int) error {
	err := l.mark(unix.FAN_MARK_REMOVE|ignored, unix.FAN_OPEN_PERM, fd, "")
	if err == nil {
		err = l.mark(unix.FAN_MARK_REMOVE|ignored, preAccess, fd, "")
	}
	if errors.Is(err, unix.ENOENT) || errors.Is(err, unix.EINVAL) {
		return nil
	}
	return err
}

// Serve answers until Close is called. It blocks all signals in a thread of its own. To report an access the kernel opens the file, and may
// wait for a lease. A signal would interrupt that wait, and the kernel would refuse the access.
func (l *Listener) Serve(ctx context.Context) error {
	runtime.LockOSThread() // and never unlocked: the thread ends
	all := unix.Sigset_t{}
	for i := range all.Val {
		all.Val[i] = ^all.Val[i]
	}
	if err := unix.PthreadSigmask(unix.SIG_BLOCK, &all, nil); err != nil {
		return err
	}
	buffer := make([]byte, eventsAtOnce)
	for {
		n, err := l.events.Read(buffer)
		if errors.Is(err, os.ErrClosed) || errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			slog.Error("accesses to stubs cannot be read", "error", err) // such as of a file that is gone
			continue
		}
		for rest := buffer[:n]; len(rest) > 0; {
			a, length := accessOf(rest)
			if length == 0 {
				return fmt.Errorf("%w: the kernel tells of accesses in an unknown form", tree.ErrUnsupported)
			}
			rest = rest[length:]
			if a.fd >= 0 {
				l.access(ctx, a)
			}
		}
	}
}

// access is an access that waits for an answer.
type access struct {
	fd, pid int32
	opens   bool // the file is opened; nothing of it is read yet
	at, n   int64
}

// accessOf reads an event: struct fanotify_event_metadata, and a record of the range (linux/fanotify.h). length is 0
// when it has another form.
func accessOf(b []byte) (a access, length int) {
	var m unix.FanotifyEventMetadata
	head := int(unsafe.Sizeof(m))
	if len(b) < head {
		return a, 0
	}
	length, version := int(binary.NativeEndian.Uint32(b)), b[4]
	metadata := int(binary.NativeEndian.Uint16(b[6:]))
	if version != unix.FANOTIFY_METADATA_VERSION || length > len(b) || metadata < head || metadata > length {
		return a, 0
	}
	mask := binary.NativeEndian.Uint64(b[8:])
	a = access{fd: int32(binary.NativeEndian.Uint32(b[16:])), pid: int32(binary.NativeEndian.Uint32(b[20:])), opens: mask&unix.FAN_OPEN_PERM != 0, n: 1 << 62}
	for info := b[metadata:length]; len(info) >= 4; {
		n := int(binary.NativeEndian.Uint16(info[2:]))
		if n < 4 || n > len(info) {
			return a, 0
		}
		if info[0] == rangeRecord && n >= 24 {
			a.at, a.n = int64(binary.NativeEndian.Uint64(info[8:])), int64(binary.NativeEndian.Uint64(info[16:]))
		}
		info = info[n:]
	}
	return a, length
}

// access answers an access, at once where it can.
func (l *Listener) access(ctx context.Context, a access) {
	if a.pid == l.own { // what we read of stubs, we fill before
		l.answer(a, 0)
		return
	}
	s, err := folder.IsStub(int(a.fd))
	if err == nil && !s {
		_ = l.ignore(int(a.fd))
		// It may have become a stub, whose mark was set before we ignored it.
		if s, err = folder.IsStub(int(a.fd)); err == nil && !s {
			l.answer(a, 0)
			return
		}
		_ = l.heed(int(a.fd))
	}
	if l.refuses {
		l.answer(a, unix.EIO)
		return
	}
	guard.Go(func() {
		var refuse unix.Errno
		if failed := guard.Call(func() error { refuse = l.stub(ctx, a); return nil }); failed != nil {
			refuse = unix.EIO
		}
		l.answer(a, refuse)
	})
}

// answer lets an access take place, or fail. The file that was accessed is closed before: as long as we have it open, it
// cannot be offloaded. Its number names the access until it is answered, and so goes to no other file before.
func (l *Listener) answer(a access, refuse unix.Errno) {
	if err := unix.Dup3(int(l.null.Fd()), int(a.fd), unix.O_CLOEXEC); err != nil {
		slog.Error("an accessed file cannot be closed", "error", err)
	}
	defer unix.Close(int(a.fd))
	l.reply(a.fd, refuse)
}

// reply answers the access of a number, if there is one.
func (l *Listener) reply(fd int32, refuse unix.Errno) {
	var b [8]byte
	binary.NativeEndian.PutUint32(b[:], uint32(fd))
	reply := uint32(unix.FAN_ALLOW)
	if refuse != 0 {
		reply = unix.FAN_DENY | uint32(refuse)<<errnoShift
	}
	binary.NativeEndian.PutUint32(b[4:], reply)
	_, err := l.events.Write(b[:])
	if refuse != 0 && errors.Is(err, unix.EINVAL) { // before Linux 6.14 there is no choice of the error
		binary.NativeEndian.PutUint32(b[4:], unix.FAN_DENY)
		_, err = l.events.Write(b[:])
	}
	if err != nil && !errors.Is(err, os.ErrClosed) && !errors.Is(err, unix.ENOENT) {
		slog.Error("an access to a stub was not answered", "error", err)
	}
}

// stub lets the bytes be there that somebody is about to read of a stub.
func (l *Listener) stub(ctx context.Context, a access) unix.Errno {
	program := programOf(a.pid)
	if l.justOpens(a, program) {
		return 0
	}
	w, name, refused := l.find(int(a.fd))
	if w == nil {
		return unix.EIO // a stub of which nobody knows where its content is
	}
	switch {
	case slices.Contains(refused, program):
		return unix.EPERM
	case a.opens, writes(a.pid, int(a.fd)):
		a.at, a.n = 0, 1<<62
	}
	own, err := folder.Reopen(int(a.fd))
	if err == nil {
		defer own.Close()
		err = w.Edge.read(ctx, own, name, a.at, max(a.n, 1))
	}
	if err == nil {
		return 0
	}
	slog.Warn("a stub could not be filled", "file", name, "program", program, "error", err)
	if isFull(err) {
		return unix.ENOSPC
	}
	return unix.EIO
}

// justOpens reports whether an access needs no content yet: the read that follows triggers the fill.
func (l *Listener) justOpens(a access, program string) bool {
	if !a.opens || slices.Contains(copiers, program) {
		return false
	}
	id, _, err := identityOf(int(a.fd))
	return err == nil && l.triggerOf(id.device) == OnRead
}

// find is the edge in which an open file is, its name there, "" when it has none any more, and the programs
// that are given no content.
func (l *Listener) find(fd int) (w *Watched, name string, refused []string) {
	full, err := os.Readlink("/proc/self/fd/" + strconv.Itoa(fd))
	if err != nil {
		return nil, "", nil
	}
	w, name = l.at(full)
	if w == nil {
		return nil, "", nil
	}
	if tree.CheckName("read", name) != nil {
		name = ""
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	return w, name, w.Refused
}

// at is the edge that a path of this host is in, and its name there, "." for the edge itself; nil when it is in none.
func (l *Listener) at(full string) (*Watched, string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, w := range l.edges {
		if full == w.Path {
			return w, "."
		}
		if name, ok := strings.CutPrefix(full, w.Path+"/"); ok {
			return w, name
		}
	}
	return nil, ""
}

// programOf is the name of the program of a process; "" when it is gone.
func programOf(pid int32) string {
	name, err := os.Readlink("/proc/" + strconv.Itoa(int(pid)) + "/exe")
	if err != nil {
		return ""
	}
	return strings.TrimSuffix(filepath.Base(name), " (deleted)")
}

// writes reports whether a process may be about to write to an open file, or to cut it: it has it open for that, or not at
// all. A stub of which a part was changed must not be filled over.
func writes(pid int32, fd int) bool {
	id, _, err := identityOf(fd)
	if err != nil {
		return true
	}
	at := "/proc/" + strconv.Itoa(int(pid))
	list, err := os.ReadDir(at + "/fd")
	if err != nil {
		return true
	}
	reads := false
	for _, entry := range list {
		var st unix.Stat_t
		if unix.Stat(at+"/fd/"+entry.Name(), &st) != nil || (file{st.Dev, st.Ino}) != id {
			continue
		}
		reads = true
		if opensForWriting(at + "/fdinfo/" + entry.Name()) {
			return true
		}
	}
	return !reads
}

// opensForWriting reads the flags of an open file (proc_pid_fdinfo(5)).
func opensForWriting(info string) bool {
	text, err := os.ReadFile(info)
	if err != nil {
		return true
	}
	for line := range strings.Lines(string(text)) {
		value, ok := strings.CutPrefix(line, "flags:")
		if !ok {
			continue
		}
		flags, err := strconv.ParseUint(strings.TrimSpace(value), 8, 64)
		return err != nil || flags&unix.O_ACCMODE != unix.O_RDONLY
	}
	return true
}
