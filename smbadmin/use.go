package smbadmin

import (
	"context"
	"time"

	"bridgespan/smbadmin/internal/ndr"
)

// Session is somebody who is connected to a server ([MS-SRVS] 2.2.4.15).
type Session struct {
	Client string // address or name of the machine
	Person string
	Files  uint32 // how many it has open
	Since  time.Duration
	Idle   time.Duration
}

// OpenFile is a file or folder that somebody has open ([MS-SRVS] 2.2.4.7).
type OpenFile struct {
	ID     uint32
	Path   string // on the server, as it writes paths
	Person string
	Write  bool // opened for changing it
	Locks  uint32
}

// Sessions lists who is connected.
func (a *Admin) Sessions(ctx context.Context) (sessions []Session, err error) {
	return sessions, a.talk(ctx, serverService, func(c *conversation) error {
		status, err := c.call(callSessionEnum, func(w *ndr.Writer) {
			w.Pointer(nil)
			w.Pointer(nil)
			w.Pointer(nil)
			writeWanted(w, 1)
		}, func(r *ndr.Reader) { sessions = readContainer(r, 1, readSessions) })
		return check("list sessions", status, err)
	})
}

// writeWanted asks for a whole list at a level.
func writeWanted(w *ndr.Writer, level uint32) {
	w.U32(level)
	w.U32(level)
	w.Pointer(func() { w.U32(0); w.U32(0) })
	w.U32(0xFFFFFFFF)
	w.Pointer(func() { w.U32(0) })
}

func readSessions(r *ndr.Reader, n int) []Session {
	sessions := make([]Session, 0, min(n, 1024))
	var pointers [][2]bool
	for range n {
		client, person := r.Pointer(), r.Pointer()
		s := Session{Files: r.U32()}
		s.Since, s.Idle = time.Duration(r.U32())*time.Second, time.Duration(r.U32())*time.Second
		r.U32()
		if r.Err() != nil {
			return nil
		}
		sessions, pointers = append(sessions, s), append(pointers, [2]bool{client, person})
	}
	for i := range sessions {
		if pointers[i][0] {
			sessions[i].Client = r.Text()
		}
		if pointers[i][1] {
			sessions[i].Person = r.Text()
		}
	}
	return sessions
}

// OpenFiles lists what is open.
func (a *Admin) OpenFiles(ctx context.Context) (files []OpenFile, err error) {
	return files, a.talk(ctx, serverService, func(c *conversation) error {
		status, err := c.call(callFileEnum, func(w *ndr.Writer) {
			w.Pointer(nil)
			w.Pointer(nil)
			w.Pointer(nil)
			writeWanted(w, 3)
		}, func(r *ndr.Reader) { files = readContainer(r, 3, readOpenFiles) })
		return check("list open files", status, err)
	})
}

func readOpenFiles(r *ndr.Reader, n int) []OpenFile {
	files := make([]OpenFile, 0, min(n, 1024))
	var pointers [][2]bool
	for range n {
		f := OpenFile{ID: r.U32()}
		f.Write = r.U32()&0x6 != 0 // write or create
		f.Locks = r.U32()
		p := [2]bool{r.Pointer(), r.Pointer()}
		if r.Err() != nil {
			return nil
		}
		files, pointers = append(files, f), append(pointers, p)
	}
	for i := range files {
		if pointers[i][0] {
			files[i].Path = r.Text()
		}
		if pointers[i][1] {
			files[i].Person = r.Text()
		}
	}
	return files
}
