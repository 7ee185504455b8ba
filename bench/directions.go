package main

import (
	"context"
	"database/sql"
	"fmt"
	"math/rand/v2"
	"net"
	"path/filepath"
	"runtime"
	"sync/atomic"
	"time"

	_ "github.com/go-sql-driver/mysql"
	"github.com/gofiber/fiber/v3"
	"github.com/valyala/fasthttp"
	"golang.org/x/sync/errgroup"

	"bridgespan/api"
	"bridgespan/core/namespace"
	"bridgespan/records"
	"bridgespan/service/access"
	"bridgespan/service/estate"
	"bridgespan/service/naming"
	"bridgespan/service/vault"
)

// The namespace that directions are asked of.
const (
	signposts   = 100_000
	sitesOfBig  = 50
	askers      = 32 // connections
	asked       = 20_000
	namesMemory = 150 << 20
)

// bigNamesMemory is what the namespace takes of the heap, in bytes.
var bigNamesMemory uint64

// directions compares answering where a path leads, of a namespace with
// 100,000 signposts over 50 sites, signed in, with a bare handler on the same
// framework that returns the same bytes.
var directions = benchmark{name: "directions", unit: "requests/s", bar: 0.5, prepare: prepareDirections}

func prepareDirections(ctx context.Context, after *endings) (ours, reference way, err error) {
	db, err := bigNamespace(ctx, after, signposts)
	if err != nil {
		return nil, nil, err
	}
	dir, err := workFolder()
	if err != nil {
		return nil, nil, err
	}
	v, err := vault.Open(filepath.Join(dir, "key"))
	if err != nil {
		return nil, nil, err
	}
	kick := func() {}
	sites := estate.New(db, v, kick)
	names := naming.New(db, sites, kick)
	users := access.New(db, kick)
	token, err := firstToken(ctx, users)
	if err != nil {
		return nil, nil, err
	}
	before := heap()
	if _, err := names.Where(ctx, "/big/area0/place0", namespace.Traveller{}); err != nil {
		return nil, nil, err
	}
	bigNamesMemory = heap() - before
	front, err := listen(api.New(api.Services{Access: users, Estate: sites, Naming: names}, api.Options{}).App(), after)
	if err != nil {
		return nil, nil, err
	}
	answer, err := get(front, request(0, 0), token)
	if err != nil {
		return nil, nil, err
	}
	bare := fiber.New()
	bare.Get("/*", func(c fiber.Ctx) error {
		c.Set("Content-Type", "application/json")
		return c.Send(answer)
	})
	plain, err := listen(bare, after)
	if err != nil {
		return nil, nil, err
	}
	return func(ctx context.Context) (float64, error) { return ask(ctx, front, token) },
		func(ctx context.Context) (float64, error) { return ask(ctx, plain, token) }, nil
}

// heap is what is in use after everything unused was given back.
func heap() uint64 {
	runtime.GC()
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return m.HeapAlloc
}

// firstToken sets a first administrator up, and signs in.
func firstToken(ctx context.Context, users *access.Service) (string, error) {
	offered, err := users.OfferSetup(ctx, "")
	if err != nil {
		return "", err
	}
	const name, secret = "bench", "bench-bench-bench"
	if err := users.Setup(ctx, offered, name, secret); err != nil {
		return "", err
	}
	who, err := users.SignIn(ctx, name, secret, "127.0.0.1")
	if err != nil {
		return "", err
	}
	issued, err := users.Issue(ctx, who, "token", "bench", "")
	return issued.Secret, err
}

func listen(app *fiber.App, after *endings) (string, error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	go func() { _ = app.Listener(listener, fiber.ListenConfig{DisableStartupMessage: true}) }()
	after.do(func() { _ = app.Shutdown() })
	return "http://" + listener.Addr().String(), nil
}

// request is the address of one question.
func request(place, site int) string {
	return fmt.Sprintf("/api/v1/directions?path=/big/area%d/place%d/2026/report.csv&from=site%d&as=ivy.marsh", place/1000, place, site)
}

var asking = &fasthttp.Client{MaxConnsPerHost: askers}

func get(base, path, token string) ([]byte, error) {
	r, w := fasthttp.AcquireRequest(), fasthttp.AcquireResponse()
	defer fasthttp.ReleaseRequest(r)
	defer fasthttp.ReleaseResponse(w)
	r.SetRequestURI(base + path)
	r.Header.Set("Authorization", "Bearer "+token)
	if err := asking.DoTimeout(r, w, 10*time.Second); err != nil {
		return nil, err
	}
	if w.StatusCode() != fasthttp.StatusOK {
		return nil, fmt.Errorf("%s answers %d: %s", path, w.StatusCode(), w.Body())
	}
	return append([]byte(nil), w.Body()...), nil
}

// ask asks many questions over several connections, and tells how many a second.
func ask(ctx context.Context, base, token string) (float64, error) {
	start := time.Now()
	var next atomic.Int64
	group, ctx := errgroup.WithContext(ctx)
	for range askers {
		group.Go(func() error {
			random := rand.New(rand.NewPCG(1, uint64(next.Load())))
			for next.Add(1) <= asked && ctx.Err() == nil {
				if _, err := get(base, request(random.IntN(signposts), random.IntN(sitesOfBig)), token); err != nil {
					return err
				}
			}
			return nil
		})
	}
	err := group.Wait()
	return asked / time.Since(start).Seconds(), err
}

// bigNamespace starts a database with the namespace /big in it: as many
// signposts as it takes, each with two locations.
func bigNamespace(ctx context.Context, after *endings, signposts int) (*records.DB, error) {
	dir, err := workFolder()
	if err != nil {
		return nil, err
	}
	db, server, err := startRecords(ctx, after, dir)
	if err != nil {
		return nil, err
	}
	plain, err := sql.Open("mysql", server.DSN("bridgespan"))
	if err != nil {
		return nil, err
	}
	defer plain.Close()
	for _, statement := range []string{
		fmt.Sprintf(`INSERT INTO sites (id, name, name_key) SELECT seq + 1, CONCAT('site', seq), CONCAT('site', seq) FROM seq_0_to_%d`, sitesOfBig-1),
		fmt.Sprintf(`INSERT INTO legs (low_site, high_site, mbit, rtt_ms, cost) SELECT 1, seq + 1, 100, 10, 10 + seq FROM seq_1_to_%d`, sitesOfBig-1),
		fmt.Sprintf(`INSERT INTO servers (id, name, name_key, site_id, address, port, account, secret, reachable) SELECT seq + 1, CONCAT('server', seq), CONCAT('server', seq), seq + 1, '127.0.0.1', 445, 'x', '', TRUE FROM seq_0_to_%d`, sitesOfBig-1),
		`INSERT INTO namespaces (id, name) VALUES (1, 'big')`,
		fmt.Sprintf(`INSERT INTO entries (id, namespace_id, path, path_key, kind) SELECT %d + seq + 1, 1, CONCAT('area', seq), CONCAT('area', seq), 'folder' FROM seq_0_to_%d`, signposts, (signposts-1)/1000),
		fmt.Sprintf(`INSERT INTO entries (id, namespace_id, path, path_key, kind) SELECT seq + 1, 1, CONCAT('area', seq DIV 1000, '/place', seq), CONCAT('area', seq DIV 1000, '/place', seq), 'signpost' FROM seq_0_to_%d`, signposts-1),
		fmt.Sprintf(`INSERT INTO locations (entry_id, server_id, share, sub, state, health) SELECT seq + 1, 1 + seq MOD %[2]d, 'data', CONCAT('place', seq), 'open', 'well' FROM seq_0_to_%[1]d`, signposts-1, sitesOfBig),
		fmt.Sprintf(`INSERT INTO locations (entry_id, server_id, share, sub, state, health) SELECT seq + 1, 1 + (seq + 17) MOD %[2]d, 'data', CONCAT('place', seq), 'open', 'well' FROM seq_0_to_%[1]d`, signposts-1, sitesOfBig),
	} {
		if _, err := plain.ExecContext(ctx, statement); err != nil {
			return nil, fmt.Errorf("%s: %w", statement, err)
		}
	}
	return db, nil
}
