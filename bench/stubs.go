package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/minio/minio-go/v7"

	"bridgespan/guard"
	"bridgespan/mover/edge"
	"bridgespan/standin/volume"
	"bridgespan/tree"
	"bridgespan/tree/bucket/seal"
	"bridgespan/tree/folder"
)

// Stubs are read by another process, as people's programs do, on a volume of their own. The reference is the client
// library alone, which reads the same part of the object.
const (
	stubPart  = 64 << 10
	stubReads = 100
)

// stubbed is a file of 1 GiB in a bucket, and its stub.
type stubbed struct {
	*bucketed
	folder *folder.Tree
	reader *partReader
	path   string
	mark   tree.Mark
}

func newStubbed(ctx context.Context, after *endings, delay time.Duration, key *seal.Key) (*stubbed, error) {
	b, err := newBucketed(ctx, after, delay, key)
	if err != nil {
		return nil, err
	}
	source := filepath.Join(b.dir, "large")
	if err := randomFile(source, bucketLarge); err != nil {
		return nil, err
	}
	f, err := os.Open(source)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	o, err := b.tree.Put(ctx, "large", f, tree.PutOptions{Size: bucketLarge, SizeKnown: true})
	if err != nil {
		return nil, err
	}
	s := &stubbed{bucketed: b, mark: tree.NewMark("large", o, o.Digest)}
	if err := s.watch(ctx, after); err != nil {
		return nil, err
	}
	_, err = s.folder.StageStub(ctx, "large", s.mark, tree.PutOptions{Size: bucketLarge, SizeKnown: true})
	if err == nil {
		s.reader, err = startPartReader(s.path)
	}
	if err == nil {
		after.do(s.reader.close)
	}
	return s, err
}

// watch mounts a volume, and fills the stubs on it from the bucket.
func (s *stubbed) watch(ctx context.Context, after *endings) error {
	at := filepath.Join(s.dir, "volume")
	image, err := os.MkdirTemp("/dev/shm", "bspan-bench-") // in memory: the disk's own speed is not measured
	if err != nil {
		return err
	}
	after.do(func() { os.RemoveAll(image) })
	v, err := volume.Mount(ctx, filepath.Join(image, "volume.ext4"), at, 3*bucketLarge)
	if err != nil {
		return err
	}
	after.do(func() { _ = v.Unmount(context.Background()) })
	s.path = filepath.Join(at, "large")
	if s.folder, err = folder.Open(at); err != nil {
		return err
	}
	after.do(func() { s.folder.Close() })
	e := &edge.Edge{}
	e.Use(s.tree)
	s.folder.FetchWith(e)
	l, err := edge.Listen(edge.AnyTrigger)
	if err != nil {
		return err
	}
	after.do(func() { l.Close() })
	guard.Go(func() { _ = l.Serve(context.WithoutCancel(ctx)) })
	return l.Add(&edge.Watched{Path: at, Edge: e})
}

// empty makes a stub of the file again.
func (s *stubbed) empty(ctx context.Context) error {
	e, err := s.folder.Stat(ctx, "large")
	if err == nil {
		_, err = s.folder.Offload(ctx, "large", e, s.mark)
	}
	return err
}

// partReader is a process that reads parts of a file, as it is told to.
type partReader struct {
	cmd    *exec.Cmd
	orders io.WriteCloser
	done   *bufio.Reader
}

// partReaderProgram reads lines of a length and offsets, opens the file for each offset, and answers with how much it read.
const partReaderProgram = `import os,sys
for line in sys.stdin:
    n,*ats=map(int,line.split()); got=0
    for at in ats:
        f=os.open(sys.argv[1],os.O_RDONLY); left=n
        while left>0:
            b=os.pread(f,min(left,1<<20),at)
            if not b: break
            at+=len(b); left-=len(b)
        os.close(f); got+=n-left
    print(got,flush=True)
`

func startPartReader(path string) (*partReader, error) {
	r := &partReader{cmd: exec.Command("python3", "-c", partReaderProgram, path)}
	var err error
	if r.orders, err = r.cmd.StdinPipe(); err != nil {
		return nil, err
	}
	out, err := r.cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	r.cmd.Stderr = os.Stderr
	r.done = bufio.NewReader(out)
	return r, r.cmd.Start()
}

// read reads parts of a length at offsets, one after the other.
func (r *partReader) read(n int64, at ...int64) error {
	if _, err := fmt.Fprintln(r.orders, n, strings.Trim(fmt.Sprint(at), "[]")); err != nil {
		return err
	}
	line, err := r.done.ReadString('\n')
	if err != nil {
		return err
	}
	if got, err := strconv.ParseInt(strings.TrimSpace(line), 10, 64); err != nil || got != n*int64(len(at)) {
		return fmt.Errorf("read %d of %d bytes: %w", got, n*int64(len(at)), err)
	}
	return nil
}

func (r *partReader) close() {
	r.orders.Close()
	_ = r.cmd.Wait()
}

// get reads a part of the object with the client library alone.
func (s *stubbed) get(ctx context.Context, at, n int64) error {
	var o minio.GetObjectOptions
	if err := o.SetRange(at, at+n-1); err != nil {
		return err
	}
	body, _, _, err := s.client.GetObject(ctx, s.name, "large", o)
	if err != nil {
		return err
	}
	defer body.Close()
	got, err := io.Copy(io.Discard, body)
	if err == nil && got != n {
		err = errors.New("the object is shorter")
	}
	return err
}

// stubFirst reads parts of a stub that are not there, anywhere in it, from a distant service; stubFirstNear from one on this
// machine, where nothing but our own work takes time; stubFirstClose from one in the same building. stubSealed reads a sealed object of a distant one.
var (
	stubFirst      = benchmark{name: "stub-first", unit: "reads/s", bar: 0.67, turns: 3, prepare: stubReadsAt(bucketFar, false)}
	stubFirstNear  = benchmark{name: "stub-first-near", unit: "reads/s", turns: 3, prepare: stubReadsAt(0, false)}
	stubFirstClose = benchmark{name: "stub-first-close", unit: "reads/s", bar: 0.67, turns: 3, prepare: stubReadsAt(bucketClose, false)}
	stubSealed     = benchmark{name: "stub-sealed", unit: "reads/s", bar: 0.67, turns: 3, prepare: stubReadsAt(bucketFar, true)}
)

func stubReadsAt(delay time.Duration, sealed bool) func(context.Context, *endings) (way, way, error) {
	return func(ctx context.Context, after *endings) (way, way, error) {
		var key *seal.Key
		var err error
		if sealed {
			if key, err = seal.NewKey(); err != nil {
				return nil, nil, err
			}
		}
		s, err := newStubbed(ctx, after, delay, key)
		if err != nil {
			return nil, nil, err
		}
		reads := func(read func(at []int64) error) way {
			return func(context.Context) (float64, error) {
				at := make([]int64, stubReads)
				for i := range at {
					at[i] = rand.Int64N(bucketLarge/stubPart) * stubPart
				}
				began := time.Now()
				err := read(at)
				return stubReads / time.Since(began).Seconds(), err
			}
		}
		ours := reads(func(at []int64) error { return s.reader.read(stubPart, at...) })
		return func(ctx context.Context) (float64, error) {
				if err := s.empty(ctx); err != nil {
					return 0, err
				}
				return ours(ctx)
			}, reads(func(list []int64) (err error) {
				for _, at := range list {
					err = errors.Join(err, s.get(ctx, at, stubPart))
				}
				return err
			}), nil
	}
}

// stubStream reads a whole stub from its beginning to its end. The reference writes the object to a file of the same volume,
// which it must do as well.
var stubStream = benchmark{name: "stub-stream", unit: "MiB/s", bar: 0.3, turns: 3, prepare: func(ctx context.Context, after *endings) (way, way, error) {
	s, err := newStubbed(ctx, after, 0, nil)
	if err != nil {
		return nil, nil, err
	}
	whole := func(read func() error) way {
		return func(context.Context) (float64, error) {
			began := time.Now()
			err := read()
			return bucketLarge / float64(1<<20) / time.Since(began).Seconds(), err
		}
	}
	ours := whole(func() error { return s.reader.read(bucketLarge, 0) })
	return func(ctx context.Context) (float64, error) {
		if err := s.empty(ctx); err != nil {
			return 0, err
		}
		return ours(ctx)
	}, whole(func() error { return s.save(ctx) }), nil
}}

// save writes the object to a file of the volume, with the client library alone.
func (s *stubbed) save(ctx context.Context) error {
	body, _, _, err := s.client.GetObject(ctx, s.name, "large", minio.GetObjectOptions{})
	if err != nil {
		return err
	}
	defer body.Close()
	f, err := os.Create(s.path + ".saved")
	if err != nil {
		return err
	}
	_, err = io.Copy(f, body)
	return errors.Join(err, f.Close())
}
