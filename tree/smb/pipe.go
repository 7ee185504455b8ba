package smb

import (
	"context"
	"errors"
	"io"
	"os"
)

// pipe is a named pipe, over a share of its own.
type pipe struct {
	file  *remoteFile
	share *remoteShare
}

// Pipe opens a named pipe of the server, for remote procedure calls. The caller must
// close it.
func (s *Session) Pipe(ctx context.Context, name string) (io.ReadWriteCloser, error) {
	share, err := s.mount(ctx, "IPC$")
	if err != nil {
		return nil, Classify(err)
	}
	share = share.WithContext(ctx)
	f, err := share.OpenFile(name, os.O_RDWR, 0o666)
	if err != nil {
		_ = share.Umount()
		return nil, Classify(err)
	}
	return &pipe{f, share}, nil
}

func (p *pipe) Read(b []byte) (int, error)  { return p.file.Read(b) }
func (p *pipe) Write(b []byte) (int, error) { return p.file.Write(b) }

func (p *pipe) Close() error { return Classify(errors.Join(p.file.Close(), p.share.Umount())) }
