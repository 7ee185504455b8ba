package e2e

import (
	"context"
	"crypto/rand"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
	"testing"
	"time"

	"bridgespan/core/replica"
	"bridgespan/e2e/harness"
	"bridgespan/mover/replication"
	"bridgespan/mover/transfer"
	"bridgespan/records"
	"bridgespan/standin/fileserver"
	"bridgespan/standin/standintest"
	"bridgespan/tree"
	"bridgespan/tree/smb"
)

// countedStore does something at one of its steps.
type countedStore struct {
	replication.Store
	left int
	then func()
}

func (s *countedStore) Save(ctx context.Context, c replica.Change) error {
	if s.left--; s.left == 0 {
		s.then()
	}
	return s.Store.Save(ctx, c)
}

// grounds is a replica set over two file servers, with its records in a database.
type grounds struct {
	db      *records.DB
	servers []*fileserver.Server
	scanned []bool
	filled  []bool
	spared  int64 // bytes that did not have to cross
}

// engine is one that begins anew: it knows only what is in the records.
func (g *grounds) engine(t *testing.T, store replication.Store) (*replication.Engine, func()) {
	t.Helper()
	e := &replication.Engine{Store: store, Now: time.Now, Unique: rand.Text, Transfers: transfer.Settings{DeltaFrom: 8 << 10}, Lanes: []replica.Lane{{From: 1, To: 2}, {From: 2, To: 1}}}
	var sessions []*smb.Session
	for i, server := range g.servers {
		session, err := smb.Dial(t.Context(), smb.Target{Address: server.HostPort(), Account: "warden", Password: standintest.Password("warden")})
		if err != nil {
			t.Fatal(err)
		}
		sessions = append(sessions, session)
		tr, err := session.Tree(t.Context(), "store", "")
		if err != nil {
			t.Fatal(err)
		}
		e.Replicas = append(e.Replicas, &replication.Replica{ID: replica.ID(i + 1), Name: server.Name, Tree: tr, Seed: i == 0, Scanned: g.scanned[i], Filled: g.filled[i]})
	}
	return e, func() {
		for i, r := range e.Replicas {
			g.scanned[i], g.filled[i] = r.Scanned, r.Filled
		}
		for _, s := range sessions {
			_ = s.Close()
		}
	}
}

// round scans and carries once, and returns whether anything was left to do.
func (g *grounds) round(ctx context.Context, e *replication.Engine) (busy bool, err error) {
	for _, r := range e.Replicas {
		s, err := e.Scan(ctx, r.ID)
		if err != nil {
			return true, err
		}
		busy = busy || s.Changed > 0
	}
	for _, l := range e.Lanes {
		c, err := e.Carry(ctx, l, 10000)
		g.spared += c.Spared
		if err != nil {
			return true, err
		}
		busy = busy || c.Done > 0 || c.Postponed > 0
	}
	return busy, nil
}

// TestReplicationSurvives kills the file servers and the database in the middle
// of the work, one after another. Nothing torn is ever shown, nothing is lost,
// and in the end both file servers hold the same.
func TestReplicationSurvives(t *testing.T) {
	t.Parallel()
	server := standintest.Database(t)
	db, err := records.Open(server.DSN("bridgespan"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Migrate(t.Context(), "test"); err != nil {
		t.Fatal(err)
	}
	g := &grounds{db: db, servers: []*fileserver.Server{standintest.FileServer(t, "oak", "store"), standintest.FileServer(t, "elm", "store")}, scanned: make([]bool, 2), filled: make([]bool, 2)}
	// What people wrote: whether nobody did away with it since.
	written := map[string]bool{"elm had this before": true}
	names := map[string]bool{}
	write := func(at int, name, text string) {
		t.Helper()
		names[name] = true
		tr := harness.Tree(t, g.servers[at], "store")
		defer tr.Close()
		if err := tree.MkdirAll(t.Context(), tr, path.Dir(name)); err != nil {
			t.Fatal(err)
		}
		if old, err := tree.ReadFile(t.Context(), tr, name); err == nil {
			written[string(old)] = false
		}
		if _, err := tr.Put(t.Context(), name, strings.NewReader(text), tree.PutOptions{Replace: true}); err != nil {
			t.Fatal(err)
		}
		written[text] = true
	}
	// All have much in common, so that of what changes only a part has to cross.
	common := make([]byte, 200_000)
	_, _ = rand.Read(common)
	text := func(what string, kb int) string { return what + string(common[:kb*1000]) }
	for i := range 40 {
		write(0, fmt.Sprintf("beds/%d/%d.txt", i%5, i), text(fmt.Sprint("oak ", i), 1+i*7%200))
	}
	write(1, "beds/0/0.txt", "elm had this before")
	victims := []struct {
		name string
		kill func()
		back func() error
	}{
		{"the database", server.Kill, server.Restart},
		{"the sender", g.servers[0].Halt, g.servers[0].Restart},
		{"the receiver", g.servers[1].Halt, g.servers[1].Restart},
	}
	broken := 0
	for i, at := range []int{5, 12, 15, 9, 14, 7, 8, 10, 6} {
		victim := victims[i%len(victims)]
		store := &countedStore{Store: db.Replication(), left: at, then: victim.kill}
		e, end := g.engine(t, store)
		_, err := g.round(t.Context(), e)
		end()
		if store.left > 0 {
			t.Logf("%s was not killed: the work was done before", victim.name)
		} else {
			broken++
			if err := victim.back(); err != nil {
				t.Fatal(err)
			}
		}
		t.Logf("%s, killed at step %d: %v", victim.name, at, err)
		onlyWhole(t, g, written)
		// People go on working, at both.
		write(0, fmt.Sprintf("beds/%d/%d.txt", i%5, i), text(fmt.Sprint("oak again ", i), 50))
		write(1, fmt.Sprintf("beds/%d/%d.txt", i%5, 35-i), text(fmt.Sprint("elm ", i), 80))
		if i%2 == 0 {
			write(1, fmt.Sprintf("beds/%d/%d.txt", i%5, i), text(fmt.Sprint("elm too ", i), 20)) // a conflict
		}
	}
	if broken < 6 {
		t.Errorf("only %d of the runs were broken off", broken)
	}
	e, end := g.engine(t, db.Replication())
	defer end()
	e.Trouble = func(tr replication.Trouble) { t.Errorf("%s %s: %v", tr.Replica, tr.Path, tr.Err) }
	for range 10 {
		busy, err := g.round(t.Context(), e)
		if err != nil {
			t.Fatal(err)
		}
		if !busy {
			break
		}
	}
	if g.spared == 0 {
		t.Error("everything crossed, though much of it was there")
	}
	seen := onlyWhole(t, g, written)
	first, second := seen[0], seen[1]
	if !maps.Equal(first, second) {
		t.Errorf("both differ: %v, %v", slices.Sorted(maps.Keys(first)), slices.Sorted(maps.Keys(second)))
	}
	if want := slices.Sorted(maps.Keys(names)); !slices.Equal(slices.Sorted(maps.Keys(first)), want) {
		t.Errorf("%d files, want %d", len(first), len(want))
	}
	// What nobody did away with is somewhere.
	there := map[string]bool{}
	for i := range g.servers {
		for _, content := range everything(t, g.servers[i]) {
			there[content] = true
		}
	}
	for text, kept := range written {
		if kept && !there[text] {
			t.Errorf("%.20q is lost", text)
		}
	}
}

// everything is the content of every file of a server's share, also of those
// that people do not see.
func everything(t *testing.T, server *fileserver.Server) map[string]string {
	t.Helper()
	tr := harness.Tree(t, server, "store")
	defer tr.Close()
	all := map[string]string{}
	for e, err := range tree.Walk(t.Context(), tr, ".", tree.Plain) {
		if err != nil {
			t.Fatal(err)
		}
		if e.Kind == tree.File {
			text, err := tree.ReadFile(t.Context(), tr, e.Path)
			if err != nil {
				t.Fatal(err)
			}
			all[e.Path] = string(text)
		}
	}
	return all
}

// onlyWhole checks that people see nothing that nobody wrote, and returns what
// they see at each server.
func onlyWhole(t *testing.T, g *grounds, written map[string]bool) (seen []map[string]string) {
	t.Helper()
	for _, server := range g.servers {
		all := everything(t, server)
		maps.DeleteFunc(all, func(name, _ string) bool { return strings.HasPrefix(name, ".bspan") })
		for name, text := range all {
			if _, known := written[text]; !known {
				t.Errorf("%s shows %s with %d bytes that nobody wrote", server.Name, name, len(text))
			}
		}
		seen = append(seen, all)
	}
	return seen
}
