package smb

import (
	"cmp"
	"context"
	"fmt"
	"log/slog"
	"net"
	"os"
	"runtime/debug"
	"sync"
	"sync/atomic"
	"time"

	smb2 "github.com/cloudsoda/go-smb2"

	"bridgespan/guard"
	"bridgespan/tree"
)

// trust is kept in a server over one connection. The protocol library checks little of
// what a server sends, and panics when that makes no sense: each call of the library is
// made through the types of this file, where a panic ends the trust and not the process.
type trust struct {
	address string
	once    sync.Once
	conn    net.Conn
	closed  atomic.Bool // by ourselves
	report  func(error) // nil when nobody wants to hear of it
	// lastReceived is when something came from the server.
	lastReceived func() time.Time
	idleTimeout  time.Duration // 0 for the usual ones
}

// How long a call may wait. The library drops an answer that it cannot verify, and then
// waits for it for ever: so the connection is cut when nothing comes for so long, and when
// other answers come and one does not. To open a file, a server may wait 35 s for another
// client to give its oplock up.
const (
	idleTimeout   = time.Minute
	answerTimeout = time.Minute
	flushTimeout  = 15 * time.Minute // a server may have gigabytes to write to a slow disk
	slowest       = 16 << 10         // bytes a second, for calls that carry many
	copyMost      = 256 << 20        // bytes that a server copies by itself at a time, in many answers
)

// waiting is a call that waits for a server.
type waiting struct {
	timer *time.Timer
	late  atomic.Bool
}

// wait has the connection cut when a call that carries so many bytes is not answered.
func (t *trust) wait(bytes int64) *waiting {
	return t.waitAtMost(cmp.Or(t.idleTimeout, idleTimeout), answerTimeout+time.Duration(bytes/slowest)*time.Second)
}

// waitForFlush is wait for a call that flushes a file.
func (t *trust) waitForFlush() *waiting {
	return t.waitAtMost(cmp.Or(t.idleTimeout, flushTimeout), flushTimeout)
}

func (t *trust) waitAtMost(idle, most time.Duration) *waiting {
	w := &waiting{}
	began := time.Now()
	w.timer = time.AfterFunc(most, guard.Func(func() {
		now := time.Now()
		if since := now.Sub(t.lastReceived()); now.Sub(began) < most && since < idle {
			w.timer.Reset(idle - since)
			return
		}
		w.late.Store(true)
		slog.Warn("a file server did not answer, and the connection was cut", "address", t.address, "waited", now.Sub(began))
		t.cut()
	}))
	w.timer.Reset(idle)
	return w
}

// check is deferred by each call of the library.
func (t *trust) check(err *error, w *waiting) {
	panicked := recover()
	w.timer.Stop()
	switch {
	case w.late.Load() && (panicked != nil || *err != nil):
		*err = fmt.Errorf("%w: %s did not answer in time", tree.ErrUnreachable, t.address)
	case panicked != nil && t.closed.Load():
		// The library panics in calls that wait while a connection is closed at this end.
		*err = fmt.Errorf("%w: the connection to %s was closed meanwhile", tree.ErrUnreachable, t.address)
	case panicked != nil:
		*err = t.end(fmt.Errorf("%w: what %s sent made no sense: %v", tree.ErrUntrusted, t.address, panicked), debug.Stack())
	case broken(*err) && !t.closed.Load(): // what comes next on this connection may be anything
		slog.Warn("an answer of a file server was changed or is none, and the connection was cut", "address", t.address, "error", *err)
		t.cut()
	}
}

// cut closes the connection. Whoever waits for the server gets an error.
func (t *trust) cut() {
	t.closed.Store(true)
	t.conn.Close()
}

// end ends the trust: nothing more is read from this connection.
func (t *trust) end(why error, stack []byte) error {
	t.once.Do(func() {
		slog.Error("a server sent answers that cannot be trusted", "address", t.address, "error", why, "stack", string(stack))
		t.cut()
		if t.report != nil {
			t.report(why)
		}
	})
	return why
}

// remoteShare is a share that is open at a server.
type remoteShare struct {
	share *smb2.Share
	trust *trust
}

func (s *remoteShare) WithContext(ctx context.Context) *remoteShare {
	return &remoteShare{s.share.WithContext(ctx), s.trust}
}

func (s *remoteShare) file(open func() (*smb2.File, error)) (f *remoteFile, err error) {
	defer s.trust.check(&err, s.trust.wait(0))
	opened, err := open()
	if err != nil {
		return nil, err
	}
	return &remoteFile{opened, s.trust}, nil
}

func (s *remoteShare) Open(name string) (*remoteFile, error) {
	return s.file(func() (*smb2.File, error) { return s.share.Open(name) })
}

func (s *remoteShare) OpenFile(name string, flag int, mode os.FileMode) (*remoteFile, error) {
	return s.file(func() (*smb2.File, error) { return s.share.OpenFile(name, flag, mode) })
}

func (s *remoteShare) Umount() (err error) {
	defer s.trust.check(&err, s.trust.wait(0))
	return s.share.Umount()
}

func (s *remoteShare) Stat(name string) (info os.FileInfo, err error) {
	defer s.trust.check(&err, s.trust.wait(0))
	return s.share.Stat(name)
}

func (s *remoteShare) Statfs(name string) (info smb2.FileFsInfo, err error) {
	defer s.trust.check(&err, s.trust.wait(0))
	return s.share.Statfs(name)
}

func (s *remoteShare) Mkdir(name string, mode os.FileMode) (err error) {
	defer s.trust.check(&err, s.trust.wait(0))
	return s.share.Mkdir(name, mode)
}

func (s *remoteShare) Remove(name string) (err error) {
	defer s.trust.check(&err, s.trust.wait(0))
	return s.share.Remove(name)
}

func (s *remoteShare) Rename(from, to string) (err error) {
	defer s.trust.check(&err, s.trust.wait(0))
	return s.share.Rename(from, to)
}

func (s *remoteShare) Chtimes(name string, read, written time.Time) (err error) {
	defer s.trust.check(&err, s.trust.wait(0))
	return s.share.Chtimes(name, read, written)
}

func (s *remoteShare) Chmod(name string, mode os.FileMode) (err error) {
	defer s.trust.check(&err, s.trust.wait(0))
	return s.share.Chmod(name, mode)
}

func (s *remoteShare) SecurityInfoRaw(name string, parts smb2.SecurityInformationRequestFlags) (raw []byte, err error) {
	defer s.trust.check(&err, s.trust.wait(0))
	return s.share.SecurityInfoRaw(name, parts)
}

func (s *remoteShare) SetSecurityInfoRaw(name string, parts smb2.SecurityInformationRequestFlags, d encoded) (err error) {
	defer s.trust.check(&err, s.trust.wait(0))
	return s.share.SetSecurityInfoRaw(name, parts, d)
}

// remoteFile is a file, a folder or a pipe that is open at a server.
type remoteFile struct {
	file  *smb2.File
	trust *trust
}

func (f *remoteFile) Name() string { return f.file.Name() }

func (f *remoteFile) Close() (err error) {
	defer f.trust.check(&err, f.trust.wait(0))
	return f.file.Close()
}

func (f *remoteFile) Stat() (info os.FileInfo, err error) {
	defer f.trust.check(&err, f.trust.wait(0))
	return f.file.Stat()
}

func (f *remoteFile) Sync() (err error) {
	defer f.trust.check(&err, f.trust.waitForFlush())
	return f.file.Sync()
}

func (f *remoteFile) Truncate(size int64) (err error) {
	defer f.trust.check(&err, f.trust.wait(0))
	return f.file.Truncate(size)
}

func (f *remoteFile) Seek(offset int64, whence int) (at int64, err error) {
	defer f.trust.check(&err, f.trust.wait(0))
	return f.file.Seek(offset, whence)
}

func (f *remoteFile) Read(p []byte) (n int, err error) {
	defer f.trust.check(&err, f.trust.wait(int64(len(p))))
	n, err = f.file.Read(p)
	return f.trust.counted(n, len(p), err)
}

func (f *remoteFile) ReadAt(p []byte, offset int64) (n int, err error) {
	defer f.trust.check(&err, f.trust.wait(int64(len(p))))
	n, err = f.file.ReadAt(p, offset)
	return f.trust.counted(n, len(p), err)
}

func (f *remoteFile) Write(p []byte) (n int, err error) {
	defer f.trust.check(&err, f.trust.wait(int64(len(p))))
	n, err = f.file.Write(p)
	return f.trust.counted(n, len(p), err)
}

func (f *remoteFile) WriteAt(p []byte, offset int64) (n int, err error) {
	defer f.trust.check(&err, f.trust.wait(int64(len(p))))
	n, err = f.file.WriteAt(p, offset)
	return f.trust.counted(n, len(p), err)
}

// counted refuses a count of bytes that cannot be: whoever gets it would read or write
// beyond what there is.
func (t *trust) counted(n, most int, err error) (int, error) {
	if n < 0 || n > most {
		return 0, t.end(fmt.Errorf("%w: %s says that %d of %d bytes went through", tree.ErrUntrusted, t.address, n, most), nil)
	}
	return n, err
}

// WriteTo copies a file to another one of the same server, which does that by itself
// where it can.
func (f *remoteFile) WriteTo(to *remoteFile) (n int64, err error) {
	defer f.trust.check(&err, f.trust.wait(copyMost))
	return f.file.WriteTo(to.file)
}

func (f *remoteFile) Readdir(n int) (list []os.FileInfo, err error) {
	defer f.trust.check(&err, f.trust.wait(0))
	list, err = f.file.Readdir(n)
	for _, info := range list {
		if !tree.IsElement(info.Name(), `/\`) {
			return nil, f.trust.named(info.Name())
		}
	}
	return list, err
}

func (f *remoteFile) ReaddirPlus(n int, parts smb2.SecurityInformationRequestFlags) (list []smb2.DirEntryPlus, err error) {
	defer f.trust.check(&err, f.trust.wait(0))
	list, err = f.file.ReaddirPlus(n, parts)
	for i := range list {
		if !tree.IsElement(list[i].Name(), `/\`) {
			return nil, f.trust.named(list[i].Name())
		}
	}
	return list, err
}

func (t *trust) named(name string) error {
	return t.end(fmt.Errorf("%w: %s lists an entry %q, which cannot be in a folder", tree.ErrUntrusted, t.address, name), nil)
}
