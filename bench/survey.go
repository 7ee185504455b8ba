package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync/atomic"
	"time"

	smb2 "github.com/cloudsoda/go-smb2"
	"golang.org/x/sync/errgroup"
	"golang.org/x/sys/unix"

	"bridgespan/core/acl"
	"bridgespan/service/surveys"
	"bridgespan/standin/fileserver"
	"bridgespan/tree"
	"bridgespan/tree/smb"
)

// What is surveyed: 200,000 files in 2,000 folders, with two sets of permissions.
const (
	surveyFolders = 2000
	surveyFiles   = 100 // in each
	// bareBatch is the most that a Samba server bears: with more its answers
	// have too many parts, and it ends the connection.
	bareBatch = 64
	// mostMemory is what a survey may take, in bytes.
	mostMemory = 200 << 20
)

// survey compares a survey with permissions with a bare loop over the SMB
// library's own listing with permissions. It may take 1.4 times as long.
var survey = benchmark{name: "survey", unit: "files/s", bar: 1 / 1.4, turns: 2, prepare: prepareSurvey}

func prepareSurvey(ctx context.Context, after *endings) (ours, reference way, err error) {
	server, err := startFileServer(after)
	if err != nil {
		return nil, nil, err
	}
	session, err := smb.Dial(ctx, smb.Target{Address: server.HostPort(), Account: account, Password: password})
	if err != nil {
		return nil, nil, err
	}
	after.do(func() { session.Close() })
	if err := makeFiles(ctx, session, server); err != nil {
		return nil, nil, err
	}
	return func(ctx context.Context) (float64, error) { return surveyOnce(ctx, session) },
		func(ctx context.Context) (float64, error) { return listBare(ctx, server) }, nil
}

// makeFiles makes the files beside the server, with permissions copied from
// files that were made through it: making them all through it takes minutes.
func makeFiles(ctx context.Context, session *smb.Session, server *fileserver.Server) error {
	t, err := session.Tree(ctx, "files", "")
	if err != nil {
		return err
	}
	models := []string{"model0", "model1"}
	for i, name := range models {
		if _, err := t.Put(ctx, name, strings.NewReader("x"), tree.PutOptions{}); err != nil {
			return err
		}
		d, err := acl.Parse([]string{"O:BAG:BAD:AI(A;;FA;;;BA)(A;ID;0x1200a9;;;WD)", "O:BAG:BAD:P(A;;FA;;;BA)(A;;0x1301bf;;;BU)(A;;FR;;;AU)"}[i])
		if err != nil {
			return err
		}
		if err := t.Apply(ctx, name, tree.Meta{Descriptor: d}); err != nil {
			return err
		}
	}
	top := server.SharePath("files")
	var kept [2][]byte
	for i, name := range models {
		b := make([]byte, 4096)
		n, err := unix.Getxattr(filepath.Join(top, name), "security.NTACL", b)
		if err != nil {
			return err
		}
		kept[i] = b[:n]
	}
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(4)
	for f := range surveyFolders {
		group.Go(func() error {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			folder := filepath.Join(top, fmt.Sprintf("folder %02d", f/50), fmt.Sprintf("part %02d", f%50))
			if err := os.MkdirAll(folder, 0o777); err != nil {
				return err
			}
			for i := range surveyFiles {
				name := filepath.Join(folder, fmt.Sprintf("specimen %04d.tif", i))
				if err := os.WriteFile(name, nil, 0o666); err != nil {
					return err
				}
				if err := unix.Setxattr(name, "security.NTACL", kept[i%2], 0); err != nil {
					return err
				}
			}
			return nil
		})
	}
	return group.Wait()
}

// surveyOnce surveys, and fails when that took more memory than it may.
func surveyOnce(ctx context.Context, session *smb.Session) (float64, error) {
	t, err := session.Tree(ctx, "files", "")
	if err != nil {
		return 0, err
	}
	defer t.Close()
	runtime.GC()
	var most atomic.Uint64
	watching, done := context.WithCancel(ctx)
	go watchMemory(watching, &most)
	start := time.Now()
	w := surveys.NewWalker(t, ".", start)
	if err := errors.Join(w.Begin(ctx), w.Walk(ctx)); err != nil {
		done()
		return 0, err
	}
	took := time.Since(start)
	done()
	if files := w.Figures().Files; files < surveyFolders*surveyFiles {
		return 0, fmt.Errorf("%d files were seen", files)
	}
	if most.Load() > mostMemory {
		return 0, fmt.Errorf("it took %d MiB of memory, more than %d", most.Load()>>20, mostMemory>>20)
	}
	surveyMemory = max(surveyMemory, most.Load())
	return surveyFolders * surveyFiles / took.Seconds(), nil
}

// surveyMemory is the most memory that a survey took.
var surveyMemory uint64

func watchMemory(ctx context.Context, most *atomic.Uint64) {
	tick := time.NewTicker(20 * time.Millisecond)
	defer tick.Stop()
	for {
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		most.Store(max(most.Load(), m.HeapInuse+m.StackInuse))
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// listBare goes through everything with the library's own listing.
func listBare(ctx context.Context, server *fileserver.Server) (float64, error) {
	var after endings
	defer after.all()
	share, err := libraryShare(ctx, &after, server)
	if err != nil {
		return 0, err
	}
	start := time.Now()
	files := 0
	for pending := []string{""}; len(pending) > 0; {
		name := pending[len(pending)-1]
		pending = pending[:len(pending)-1]
		dir, err := share.Open(name)
		if err != nil {
			return 0, err
		}
		for {
			list, err := dir.ReaddirPlus(bareBatch, smb2.OwnerSecurityInformation|smb2.GroupSecurityInformation|smb2.DACLSecurityInformation)
			for _, e := range list {
				if e.IsDir() {
					pending = append(pending, strings.TrimPrefix(name+`\`+e.Name(), `\`))
				} else {
					files++
				}
			}
			if errors.Is(err, io.EOF) || len(list) == 0 && err == nil {
				break
			}
			if err != nil {
				dir.Close()
				return 0, err
			}
		}
		dir.Close()
	}
	if files < surveyFolders*surveyFiles {
		return 0, fmt.Errorf("%d files were seen", files)
	}
	return float64(surveyFolders*surveyFiles) / time.Since(start).Seconds(), nil
}
