package main

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"sync/atomic"
	"time"

	smb2 "github.com/cloudsoda/go-smb2"
	"golang.org/x/sync/errgroup"

	"bridgespan/core/lock"
	"bridgespan/core/namespace"
	"bridgespan/gateway"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/standin/fileserver"
	"bridgespan/tree"
	"bridgespan/tree/smb"
)

// How the references read: pieces of a MiB, the wide one four at a time.
const (
	piece    = 1 << 20
	inFlight = 4
)

// fileSize is large enough that opening counts for nothing.
const fileSize = 1 << 30

// listed is how many entries the folder has that is listed.
const listed = 10_000

// Both read one file from a file server on loopback: through the gateway over
// HTTP, and with the SMB library alone.
var (
	// gatewayRead compares with the library's own File, read in order.
	gatewayRead = benchmark{name: "gateway-read", unit: "MB/s", bar: 0.8, turns: 2, prepare: func(ctx context.Context, after *endings) (way, way, error) {
		return prepareGatewayRead(ctx, after, readInOrder)
	}}
	// gatewayReadWide compares with the most that the library can do on this
	// machine: as many reads in flight as the gateway has, and no HTTP.
	gatewayReadWide = benchmark{name: "gateway-read-wide", unit: "MB/s", bar: 0.6, turns: 2, prepare: func(ctx context.Context, after *endings) (way, way, error) {
		return prepareGatewayRead(ctx, after, readWide)
	}}
)

// gatewayList compares listing a folder with its properties over WebDAV with
// the bare listing of the SMB library. It may take 1.5 times as long.
var gatewayList = benchmark{name: "gateway-list", unit: "entries/s", bar: 1 / 1.5, prepare: prepareGatewayList}

func prepareGatewayList(ctx context.Context, after *endings) (ours, reference way, err error) {
	server, err := startFileServer(after)
	if err != nil {
		return nil, nil, err
	}
	folder := filepath.Join(server.SharePath("files"), "many")
	if err := fillFolder(folder); err != nil {
		return nil, nil, err
	}
	address, err := serveGateway(ctx, server, after)
	if err != nil {
		return nil, nil, err
	}
	share, err := libraryShare(ctx, after, server)
	if err != nil {
		return nil, nil, err
	}
	return func(ctx context.Context) (float64, error) { return listHTTP(ctx, address+"/bench/files/many/") },
		func(ctx context.Context) (float64, error) { return listSMB(share) }, nil
}

func fillFolder(folder string) error {
	if err := os.MkdirAll(folder, 0o777); err != nil {
		return err
	}
	for i := range listed {
		if err := os.WriteFile(filepath.Join(folder, fmt.Sprintf("Observation %05d.txt", i)), nil, 0o666); err != nil {
			return err
		}
	}
	return nil
}

func listHTTP(ctx context.Context, address string) (float64, error) {
	start := time.Now()
	r, err := http.NewRequestWithContext(ctx, "PROPFIND", address, nil)
	if err != nil {
		return 0, err
	}
	r.SetBasicAuth(account, password)
	r.Header.Set("Depth", "1")
	response, err := http.DefaultClient.Do(r)
	if err != nil {
		return 0, err
	}
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	took := time.Since(start)
	if n := bytes.Count(text, []byte("<D:response>")); err == nil && n != listed+1 {
		err = fmt.Errorf("%d entries instead of %d: %s", n-1, listed, response.Status)
	}
	return listed / took.Seconds(), err
}

func listSMB(share *smb2.Share) (float64, error) {
	start := time.Now()
	list, err := share.ReadDir("many")
	took := time.Since(start)
	if err == nil && len(list) != listed {
		err = fmt.Errorf("%d entries instead of %d", len(list), listed)
	}
	return listed / took.Seconds(), err
}

type way = func(context.Context) (float64, error)

const (
	account  = "reader"
	password = "bench-reader-password"
)

func prepareGatewayRead(ctx context.Context, after *endings, read func(*smb2.File) (int64, error)) (ours, reference way, err error) {
	server, err := startFileServer(after)
	if err != nil {
		return nil, nil, err
	}
	if err := putRandomFile(ctx, server); err != nil {
		return nil, nil, err
	}
	address, err := serveGateway(ctx, server, after)
	if err != nil {
		return nil, nil, err
	}
	address += "/bench/files/big"
	return func(ctx context.Context) (float64, error) {
			return rate(func() (int64, error) { return readHTTP(ctx, address) })
		},
		func(ctx context.Context) (float64, error) {
			return rate(func() (int64, error) { return readSMB(ctx, server, read) })
		}, nil
}

// serveGateway serves a gateway with one signpost, and returns its address.
func serveGateway(ctx context.Context, server *fileserver.Server, after *endings) (string, error) {
	gate := gateway.New(ctx, oneSignpost{server}, oneSignpost{server}, nothingKept{}, gateway.Options{})
	after.do(gate.Close)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	front := &http.Server{Handler: gate}
	go func() { _ = front.Serve(listener) }()
	after.do(func() { _ = front.Close() })
	return "http://" + listener.Addr().String(), nil
}

func startFileServer(after *endings) (*fileserver.Server, error) {
	return startServerWith(after, fileserver.Config{})
}

// startServerWith starts a file server with some settings of its own.
func startServerWith(after *endings, c fileserver.Config) (*fileserver.Server, error) {
	dir, err := workFolder()
	if err != nil {
		return nil, err
	}
	place := filepath.Join(dir, "server")
	later.do(func() { fileserver.Discard(place) })
	target, err := fileserver.Place(place)
	if err != nil {
		return nil, err
	}
	c.Dir, c.Name, c.Address, c.SID = target, "bench", "127.0.0.1", "S-1-5-21-7-7-7"
	c.Accounts, c.Shares = []fileserver.Account{{Name: account, Password: password, RID: 5001, Administrator: true}}, []fileserver.Share{{Name: "files"}}
	server, err := fileserver.Start(c)
	if err == nil {
		after.do(server.Stop)
	}
	return server, err
}

func putRandomFile(ctx context.Context, server *fileserver.Server) error {
	session, err := smb.Dial(ctx, smb.Target{Address: server.HostPort(), Account: account, Password: password})
	if err != nil {
		return err
	}
	defer session.Close()
	t, err := session.Tree(ctx, "files", "")
	if err != nil {
		return err
	}
	_, err = t.Put(ctx, "big", io.LimitReader(rand.NewChaCha8([32]byte{1}), fileSize), tree.PutOptions{Replace: true})
	return err
}

// rate is in MB/s.
func rate(read func() (int64, error)) (float64, error) {
	start := time.Now()
	n, err := read()
	if err == nil && n != fileSize {
		err = fmt.Errorf("%d bytes instead of %d", n, fileSize)
	}
	return float64(n) / 1e6 / time.Since(start).Seconds(), err
}

func readHTTP(ctx context.Context, address string) (int64, error) {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return 0, err
	}
	r.SetBasicAuth(account, password)
	response, err := http.DefaultClient.Do(r)
	if err != nil {
		return 0, err
	}
	defer response.Body.Close()
	if response.StatusCode != http.StatusOK {
		return 0, fmt.Errorf("the gateway answers %s", response.Status)
	}
	return io.CopyBuffer(io.Discard, struct{ io.Reader }{response.Body}, make([]byte, piece))
}

// readSMB reads with the library alone.
func readSMB(ctx context.Context, server *fileserver.Server, read func(*smb2.File) (int64, error)) (int64, error) {
	var after endings
	defer after.all()
	share, err := libraryShare(ctx, &after, server)
	if err != nil {
		return 0, err
	}
	f, err := share.Open("big")
	if err != nil {
		return 0, err
	}
	defer f.Close()
	return read(f)
}

func readInOrder(f *smb2.File) (int64, error) {
	return io.CopyBuffer(io.Discard, struct{ io.Reader }{f}, make([]byte, piece))
}

func readWide(f *smb2.File) (int64, error) {
	var total atomic.Int64
	var group errgroup.Group
	for lane := range inFlight {
		group.Go(func() error {
			buffer := make([]byte, piece)
			for offset := int64(lane) * piece; offset < fileSize; offset += inFlight * piece {
				n, err := f.ReadAt(buffer, offset)
				total.Add(int64(n))
				if err != nil {
					return err
				}
			}
			return nil
		})
	}
	err := group.Wait()
	return total.Load(), err
}

// nothingKept is the state of a gateway whose clients leave nothing.
type nothingKept struct{ gateway.State }

func (nothingKept) GatewayLocks(context.Context, string, time.Time) ([]lock.Lock, error) {
	return nil, nil
}

func (nothingKept) AllGatewayLocks(context.Context, time.Time, int) ([]lock.Lock, error) {
	return nil, nil
}

func (nothingKept) GatewayProperties(context.Context, string) ([]byte, error) { return nil, nil }

func (nothingKept) GatewayPropertiesIn(context.Context, string) (map[string][]byte, error) {
	return nil, nil
}

// oneSignpost is a namespace with one signpost, /bench/files.
type oneSignpost struct{ server *fileserver.Server }

func (o oneSignpost) location() namespace.Location {
	return namespace.Location{ID: 1, Server: "bench", Share: "files", State: namespace.Open, Rank: namespace.Normal, Listens: namespace.Listener{HostPort: o.server.HostPort()}}
}

func (oneSignpost) Suspect(context.Context, string) {}
func (oneSignpost) Distrust(string, error)          {}
func (oneSignpost) Quarantined(string) bool         { return false }

func (oneSignpost) Namespaces(context.Context, records.Page) ([]model.Namespace, error) {
	return []model.Namespace{{Name: "bench"}}, nil
}

func (oneSignpost) LookSoon(context.Context, string) {}
func (o oneSignpost) Tree(context.Context, string) (*namespace.Tree, error) {
	return namespace.NewTree("bench", []namespace.Entry{{ID: 1, Path: "files", Kind: namespace.Signpost, Locations: []namespace.Location{o.location()}}}), nil
}

func (o oneSignpost) Where(ctx context.Context, path string, who namespace.Traveller) (model.Directions, error) {
	t, _ := o.Tree(ctx, "")
	_, inside, err := namespace.Split("path", path)
	if err != nil {
		return model.Directions{}, err
	}
	place, _ := t.Resolve(inside)
	return model.Directions{Path: path, Kind: "signpost", Signpost: "/bench/files", Rest: place.Rest, Directions: namespace.Order([]namespace.Location{o.location()}, who, nil)}, nil
}
