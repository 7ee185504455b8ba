package main

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/mover/host"
	"bridgespan/service/access"
	"bridgespan/service/estate"
	"bridgespan/service/fronts"
	"bridgespan/service/jobs"
	"bridgespan/service/naming"
	"bridgespan/service/vault"
	"bridgespan/service/work"
	"bridgespan/standin/fileserver"
	"bridgespan/tree"
	"bridgespan/tree/smb"
)

// frontSignposts is the number of signposts of the namespace.
const frontSignposts = 10_000

// frontWrite measures the first writing of a front with 10,000 signposts, from the request to the last
// entry. The limit is 10 s.
var frontWrite = benchmark{name: "front-write", unit: "signposts/s", bar: 1, turns: 3, prepare: func(ctx context.Context, after *endings) (way, way, error) {
	return prepareFrontWrite(ctx, after, frontSignposts)
}}

// frontWriteBig measures the same with 100,000 signposts.
var frontWriteBig = benchmark{name: "front-write-100000", unit: "signposts/s", bar: 1, turns: 1, prepare: func(ctx context.Context, after *endings) (way, way, error) {
	return prepareFrontWrite(ctx, after, signposts)
}}

func prepareFrontWrite(ctx context.Context, after *endings, amount int) (ours, reference way, err error) {
	f, err := newFronted(ctx, after, amount)
	if err != nil {
		return nil, nil, err
	}
	return func(context.Context) (float64, error) {
			began := time.Now()
			plan, err := f.fronts.Add(f.ctx, f.asked)
			for err == nil && plan.Front.State != model.FrontCurrent { // creation continues in the background
				time.Sleep(10 * time.Millisecond)
				plan.Front, err = f.fronts.Front(f.ctx, f.asked.Server, f.asked.Share)
			}
			took := time.Since(began)
			if err == nil && (plan.Front.State != model.FrontCurrent || plan.Front.Links != int64(amount)) {
				err = fmt.Errorf("it holds %d links, and is %s", plan.Front.Links, plan.Front.State)
			}
			if err == nil {
				_, err = f.runs.Await(f.ctx, plan.Run, time.Minute)
			}
			if err == nil {
				_, err = f.fronts.Remove(f.ctx, f.asked.Server, f.asked.Share, plan.Front.Version, model.RemoveFront{})
			}
			return float64(amount) / took.Seconds(), err
		}, func(context.Context) (float64, error) {
			return frontSignposts / 10.0, nil
		}, nil
}

// frontChange measures how soon the change of one of 10,000 signposts is in a front, one change a turn.
// The limit is 0.2 s.
var frontChange = benchmark{name: "front-change", unit: "changes/s", bar: 1, turns: 9, prepare: func(ctx context.Context, after *endings) (ours, reference way, err error) {
	f, err := newFronted(ctx, after, frontSignposts)
	if err == nil {
		_, err = f.fronts.Add(f.ctx, f.asked)
	}
	if err != nil {
		return nil, nil, err
	}
	turn := 0
	return func(context.Context) (float64, error) {
			turn++
			return f.change(fmt.Sprint("area3/place", 3000+turn))
		}, func(context.Context) (float64, error) {
			return 5, nil
		}, nil
}}

// frontList compares listing a front with 10,000 signposts through the file service with listing as
// many folders of a share there.
var frontList = benchmark{name: "front-list", unit: "entries/s", bar: 0.9, prepare: func(ctx context.Context, after *endings) (ours, reference way, err error) {
	f, err := newFronted(ctx, after, frontSignposts)
	if err == nil {
		_, err = f.fronts.Add(f.ctx, f.asked)
	}
	if err != nil {
		return nil, nil, err
	}
	f.stop() // stops the probes of 50 servers, which are not measured here
	for i := range frontSignposts {
		if err := os.MkdirAll(filepath.Join(f.server.SharePath("files"), fmt.Sprintf("area%d/place%d", i/1000, i)), 0o755); err != nil {
			return nil, nil, err
		}
	}
	session, err := smb.Dial(ctx, smb.Target{Address: f.server.HostPort(), Account: account, Password: password})
	if err != nil {
		return nil, nil, err
	}
	after.do(func() { session.Close() })
	list := func(share string) way {
		return func(ctx context.Context) (float64, error) { return listFolders(ctx, session, share) }
	}
	return list(f.asked.Share), list("files"), nil
}}

// listFolders lists the folders of a share and their content, as a file browser does.
func listFolders(ctx context.Context, session *smb.Session, share string) (float64, error) {
	t, err := session.Tree(ctx, share, "")
	if err != nil {
		return 0, err
	}
	defer t.Close()
	const times = 3 // runs, to average out noise
	began, seen := time.Now(), 0
	for range times {
		for top, err := range t.List(ctx, ".", tree.Plain) {
			if err != nil {
				return 0, err
			}
			for _, err := range t.List(ctx, top.Name, tree.Plain) {
				if err != nil {
					return 0, err
				}
				seen++
			}
		}
	}
	if seen != times*frontSignposts {
		return 0, fmt.Errorf("%s: %d entries are seen", share, seen)
	}
	return float64(seen) / time.Since(began).Seconds(), nil
}

// fronted is a service with a namespace, and a host for fronts.
type fronted struct {
	ctx    context.Context // as an administrator
	names  *naming.Service
	fronts *fronts.Service
	runs   *jobs.Service
	server *fileserver.Server
	stop   func() // stops background work
	asked  model.NewFront
}

// newFronted starts a service and a host for fronts.
func newFronted(ctx context.Context, after *endings, amount int) (*fronted, error) {
	db, err := bigNamespace(ctx, after, amount)
	if err != nil {
		return nil, err
	}
	f := &fronted{ctx: access.WithActor(ctx, model.User{Name: "bench", Role: model.Administrator}), asked: model.NewFront{Server: "host", Share: "big", Namespace: "big"}}
	if f.server, err = startServerWith(after, fileserver.Config{Port: 445, Fronts: true}); err != nil {
		return nil, err
	}
	dir, err := workFolder()
	if err != nil {
		return nil, err
	}
	v, err := vault.Open(filepath.Join(dir, "key"))
	if err != nil {
		return nil, err
	}
	var changed func()
	sites := estate.New(db, v, func() { changed() })
	f.names = naming.New(db, sites, func() { changed() })
	leases := &work.Leases{DB: db, Holder: "bench"}
	f.runs = jobs.New(db, leases, func() {})
	f.fronts = fronts.New(db, v, sites, f.names, f.runs, func() {})
	changed = f.fronts.Kick
	working, stop := context.WithCancel(ctx)
	f.stop = stop
	after.do(stop)
	for _, run := range []func(){func() { f.runs.Run(working) }, func() { f.fronts.Run(working, leases) }} {
		ended := make(chan struct{})
		go func() { defer close(ended); run() }()
		after.do(func() { stop(); <-ended })
	}
	return f, f.addHost(ctx, after, sites, filepath.Join(dir, "mover"))
}

// addHost starts a mover beside the file service, and adds it as a server.
func (f *fronted) addHost(ctx context.Context, after *endings, sites *estate.Service, state string) error {
	m, err := host.Open(host.Config{Listen: "127.0.0.1:0", State: state, Fronts: f.server.FrontsFolder(), FileService: f.server.Configuration()})
	if err != nil {
		return err
	}
	serving, stop := context.WithCancel(ctx)
	ended := make(chan error, 1)
	go func() { ended <- m.Serve(serving) }()
	after.do(func() { stop(); <-ended })
	fingerprint, secret, err := host.Identity(state)
	if err != nil {
		return err
	}
	address, text, err := net.SplitHostPort(m.Address())
	if err != nil {
		return err
	}
	port, err := strconv.Atoi(text)
	if err != nil {
		return err
	}
	return sites.AddServer(f.ctx, model.Server{Name: "host", Site: "site0", Address: address, Port: port, Certificate: fingerprint}, secret, false)
}

// change holds the first location of a signpost, and waits until the front leads past it.
func (f *fronted) change(path string) (float64, error) {
	e, err := f.names.EntryAt(f.ctx, "big", path)
	if err != nil {
		return 0, err
	}
	link := filepath.Join(f.server.FrontsFolder(), "big", path)
	before, err := os.Readlink(link)
	if err != nil {
		return 0, err
	}
	began := time.Now()
	if err := f.names.EditLocation(f.ctx, "big", e.ID, e.Version, e.Locations[0].ID, model.EditLocation{State: namespace.Held, Why: "bench"}); err != nil {
		return 0, err
	}
	for tick := time.NewTicker(time.Millisecond); ; <-tick.C {
		now, err := os.Readlink(link)
		if err == nil && now != before {
			tick.Stop()
			return 1 / time.Since(began).Seconds(), nil
		}
		if time.Since(began) > 20*time.Second {
			return 0, errors.Join(err, errors.New("it is not changed"))
		}
	}
}
