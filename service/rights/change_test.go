package rights

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"bridgespan/core/account"
	"bridgespan/core/acl"
	"bridgespan/core/fault"
	"bridgespan/model"
	"bridgespan/service/jobs"
	"bridgespan/service/work"
	"bridgespan/standin/standintest"
	"bridgespan/tree"
	"bridgespan/tree/memory"
)

var ivy = account.MustSID("S-1-5-21-1-2-3-1103")

// next says what becomes of the place itself, or which field is wrong.
func TestNext(t *testing.T) {
	parent := parts(t, "O:BAD:PAI(A;OICI;FA;;;BA)(A;OICI;FR;;;BU)")
	own := parts(t, "O:BAD:AI(A;OICI;FW;;;BG)(A;OICIID;FA;;;BA)(A;OICIID;FR;;;BU)")
	for name, c := range map[string]struct {
		ask    model.ChangeRights
		sid    account.SID
		top    bool
		file   bool
		want   string // SDDL, or
		field  string // the field that is blamed
		remedy string
	}{
		"grant":                   {ask: model.ChangeRights{Action: model.RightsGrant, Level: acl.Read}, sid: ivy, want: "O:BAD:AI(A;OICI;FW;;;BG)(A;OICI;0x1200a9;;;" + ivy.String() + ")(A;OICIID;FA;;;BA)(A;OICIID;FR;;;BU)"},
		"grant this alone":        {ask: model.ChangeRights{Action: model.RightsGrant, Level: acl.Read, Scope: acl.ThisOnly}, sid: ivy, want: "O:BAD:AI(A;OICI;FW;;;BG)(A;;0x1200a9;;;" + ivy.String() + ")(A;OICIID;FA;;;BA)(A;OICIID;FR;;;BU)"},
		"grant on a file":         {ask: model.ChangeRights{Action: model.RightsGrant, Level: acl.Read}, sid: ivy, file: true, want: "O:BAD:AI(A;OICI;FW;;;BG)(A;;0x1200a9;;;" + ivy.String() + ")(A;OICIID;FA;;;BA)(A;OICIID;FR;;;BU)"},
		"deny leaves synchronize": {ask: model.ChangeRights{Action: model.RightsGrant, Level: acl.Full, Deny: true}, sid: ivy, want: "O:BAD:AI(D;OICI;0xf01ff;;;" + ivy.String() + ")(A;OICI;FW;;;BG)(A;OICIID;FA;;;BA)(A;OICIID;FR;;;BU)"},
		"no level":                {ask: model.ChangeRights{Action: model.RightsGrant, Level: acl.None}, sid: ivy, field: "level"},
		"no scope":                {ask: model.ChangeRights{Action: model.RightsGrant, Level: acl.Read, Scope: "up"}, sid: ivy, field: "scope"},
		"revoke":                  {ask: model.ChangeRights{Action: model.RightsRevoke}, sid: account.Guests, want: "O:BAD:AI(A;OICIID;FA;;;BA)(A;OICIID;FR;;;BU)"},
		"revoke what is from above": {ask: model.ChangeRights{Action: model.RightsRevoke}, sid: account.Users, field: "account",
			remedy: "protect"},
		"own":                {ask: model.ChangeRights{Action: model.RightsOwn}, sid: ivy, want: strings.Replace(descriptorOf(own).String(), "O:BA", "O:"+ivy.String(), 1)},
		"protect":            {ask: model.ChangeRights{Action: model.RightsProtect}, want: "O:BAD:P(A;OICI;FW;;;BG)(A;OICI;FA;;;BA)(A;OICI;FR;;;BU)"},
		"protect and drop":   {ask: model.ChangeRights{Action: model.RightsProtect, Drop: true}, want: "O:BAD:P(A;OICI;FW;;;BG)"},
		"inherit at the top": {ask: model.ChangeRights{Action: model.RightsInherit}, top: true, field: "path"},
		"replace below a file": {ask: model.ChangeRights{Action: model.RightsReplace}, file: true, field: "path",
			remedy: "folder"},
		"something else": {ask: model.ChangeRights{Action: "shuffle"}, field: "action"},
	} {
		above := &parent
		if c.top {
			above = nil
		}
		got, err := next(own, above, !c.file, settings{Asked: c.ask, SID: c.sid})
		var blamed *fault.Error
		if c.field != "" {
			if !errors.As(err, &blamed) || blamed.Field != c.field || !strings.Contains(blamed.Remedy, c.remedy) {
				t.Errorf("%s: %v, want the field %s blamed", name, err, c.field)
			}
			continue
		}
		if err != nil || descriptorOf(got).String() != descriptorOf(parts(t, c.want)).String() {
			t.Errorf("%s: %s, %v; want %s", name, descriptorOf(got).String(), err, c.want)
		}
	}
}

// What is below a folder changes only where the folder hands down something else.
func TestBelow(t *testing.T) {
	was := parts(t, "O:BAD:PAI(A;OICI;FA;;;BA)")
	is := parts(t, "O:BAD:PAI(A;OICI;FA;;;BA)(A;OICI;FR;;;BU)")
	grant := settings{Asked: model.ChangeRights{Action: model.RightsGrant}}
	for name, c := range map[string]struct {
		own, want string
		folder    bool
		work      settings
		settled   bool
	}{
		"a folder that inherits":           {"O:BAD:AI(A;OICIID;FA;;;BA)", "O:BAD:AI(A;OICIID;FA;;;BA)(A;OICIID;FR;;;BU)", true, grant, false},
		"a file that inherits":             {"O:BAD:AI(A;ID;FA;;;BA)", "O:BAD:AI(A;ID;FA;;;BA)(A;ID;FR;;;BU)", false, grant, true},
		"one that is protected":            {"O:BAD:PAI(A;OICI;FA;;;BA)", "O:BAD:PAI(A;OICI;FA;;;BA)", true, grant, true},
		"one that has it already":          {"O:BAD:AI(A;OICIID;FA;;;BA)(A;OICIID;FR;;;BU)", "O:BAD:AI(A;OICIID;FA;;;BA)(A;OICIID;FR;;;BU)", true, grant, true},
		"another owner":                    {"O:BAD:AI(A;OICIID;FA;;;BA)", "O:BAD:AI(A;OICIID;FA;;;BA)", true, settings{Asked: model.ChangeRights{Action: model.RightsOwn}, SID: ivy}, true},
		"another owner of all":             {"O:BAD:P(A;;FA;;;BA)", "O:" + ivy.String() + "D:P(A;;FA;;;BA)", true, settings{Asked: model.ChangeRights{Action: model.RightsOwn, Below: true}, SID: ivy}, false},
		"replaced, protected as it may be": {"O:BAD:PAI(A;;FA;;;BG)", "O:BAD:AI(A;OICIID;FA;;;BA)(A;OICIID;FR;;;BU)", true, settings{Asked: model.ChangeRights{Action: model.RightsReplace}}, false},
	} {
		got, settled := below(parts(t, c.own), is, c.folder, c.work)
		if descriptorOf(got).String() != descriptorOf(parts(t, c.want)).String() || settled != c.settled {
			t.Errorf("%s: %s, settled %v; want %s, %v", name, descriptorOf(got).String(), settled, c.want, c.settled)
		}
	}
	if was.HandsDownAs(is) || !is.HandsDownAs(parts(t, "O:BUD:AI(A;OICI;FA;;;BA)(A;;FW;;;WD)(A;OICIID;FR;;;BU)")) {
		t.Error("what is handed down is not what decides")
	}
}

// bench is a place in memory that is worked on by real runs.
type bench struct {
	service *Service
	tree    *memory.Tree
	cut     atomic.Int64 // changes that are still made before the server goes away; negative for all
}

func newBench(t *testing.T) *bench {
	db, _ := standintest.Records(t)
	b := &bench{tree: garden(t)}
	b.cut.Store(-1)
	b.tree.Fault = func(step, _ string) error {
		if step != "apply" || b.cut.Load() < 0 {
			return nil
		}
		if b.cut.Add(-1) < 0 {
			b.cut.Store(0)
			return tree.ErrUnreachable
		}
		return nil
	}
	j := jobs.New(db, &work.Leases{DB: db, Holder: "here"}, func() {})
	b.service = &Service{db: db, jobs: j, changed: func() {}}
	j.Register(runKind, jobs.Policy{Pool: jobs.Interactive}, func(ctx context.Context, job *jobs.Job) error {
		var work settings
		if err := job.Settings(&work); err != nil {
			return err
		}
		return b.service.workAt(ctx, job, b.place(t), work)
	})
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() { j.Run(ctx); close(done) }()
	t.Cleanup(func() { stop(); <-done })
	return b
}

// garden is a tree of folders with a few sets of permissions, made by chance.
func garden(t *testing.T) *memory.Tree {
	chance := rand.New(rand.NewPCG(3, 2026))
	m := new(memory.Tree)
	set := func(name string, text string) {
		if err := m.Apply(t.Context(), name, tree.Meta{Descriptor: descriptorOf(parts(t, text))}); err != nil {
			t.Fatal(err)
		}
	}
	set(".", "O:BAD:PAI(A;OICI;FA;;;BA)(A;OICI;FR;;;BU)")
	folders := []string{"."}
	for i := range 40 {
		parent := folders[chance.IntN(len(folders))]
		name := strings.TrimPrefix(fmt.Sprintf("%s/%d", parent, i), "./")
		if chance.IntN(3) == 0 {
			if err := m.Mkdir(t.Context(), name); err != nil {
				t.Fatal(err)
			}
			folders = append(folders, name)
			set(name, []string{"O:BAD:AI(A;OICIID;FA;;;BA)(A;OICIID;FR;;;BU)", "O:BAD:AI(A;OICI;FW;;;BG)(A;OICIID;FA;;;BA)(A;OICIID;FR;;;BU)", "O:BUD:PAI(A;OICI;FA;;;BA)"}[chance.IntN(3)])
			continue
		}
		if _, err := m.Put(t.Context(), name, strings.NewReader(name), tree.PutOptions{}); err != nil {
			t.Fatal(err)
		}
		set(name, []string{"O:BAD:AI(A;ID;FA;;;BA)(A;ID;FR;;;BU)", "O:BUD:AI(A;;FW;;;BG)(A;ID;FA;;;BA)(A;ID;FR;;;BU)"}[chance.IntN(2)])
	}
	return m
}

func (b *bench) place(t *testing.T) *look {
	d, err := b.tree.Descriptor(context.Background(), ".")
	if err != nil {
		t.Error(err)
	}
	return &look{Place: model.Place{Server: "oak", Share: "store", Folder: true}, server: model.Server{Name: "oak"}, tree: b.tree, chain: []acl.Parts{d.Parts()}}
}

// all are the permissions of everything, by path.
func (b *bench) all(t *testing.T) map[string]acl.Descriptor {
	t.Helper()
	found := map[string]acl.Descriptor{}
	for node, err := range (&tree.Ordered{Tree: b.tree, Top: ".", Detail: tree.WithDescriptors}).All(t.Context()) {
		if err != nil {
			t.Fatal(err)
		}
		found[node.Path] = node.Descriptor
	}
	return found
}

func (b *bench) run(t *testing.T, work settings) model.Run {
	t.Helper()
	id, err := b.service.jobs.Start(t.Context(), runKind, "oak/store", work)
	if err != nil {
		t.Fatal(err)
	}
	return b.await(t, id)
}

func (b *bench) await(t *testing.T, id int64) model.Run {
	t.Helper()
	r, err := b.service.jobs.Await(t.Context(), id, time.Minute)
	if err != nil || !r.State.Ended() {
		t.Fatalf("%+v, %v", r, err)
	}
	return r
}

func same(a, b map[string]acl.Descriptor) string {
	for name, d := range a {
		if b[name] != d {
			return fmt.Sprintf("%s is %s, and not %s", name, b[name], d)
		}
	}
	if len(a) != len(b) {
		return fmt.Sprintf("%d objects, and not %d", len(b), len(a))
	}
	return ""
}

// A change that is interrupted after any number of objects can be finished, and
// then everything is as if it had never been interrupted; or taken back, and
// then everything is as before. A rehearsal changes nothing and plans the same.
func TestInterruptedAfterAnyObject(t *testing.T) {
	for name, work := range map[string]settings{
		"grant":         {Asked: model.ChangeRights{Action: model.RightsGrant, Level: acl.Change, Scope: acl.Everything}, SID: ivy},
		"own":           {Asked: model.ChangeRights{Action: model.RightsOwn, Below: true}, SID: ivy},
		"replace-below": {Asked: model.ChangeRights{Action: model.RightsReplace}},
	} {
		t.Run(name, func(t *testing.T) {
			b := newBench(t)
			before := b.all(t)
			work.Place = b.place(t).Place
			rehearsal := work
			rehearsal.Asked.Rehearse = true
			planned, err := b.service.db.RightsCounts(t.Context(), b.run(t, rehearsal).ID)
			if diff := same(before, b.all(t)); err != nil || diff != "" || planned.Planned == 0 {
				t.Fatalf("rehearsed %+v: %s, %v", planned, diff, err)
			}
			whole := b.run(t, work)
			if whole.State != model.RunDone {
				t.Fatalf("%+v", whole)
			}
			after := b.all(t)
			counts, err := b.service.db.RightsCounts(t.Context(), whole.ID)
			if err != nil || counts.Done != planned.Planned || same(before, after) == "" {
				t.Errorf("done %+v, planned %+v, %v", counts, planned, err)
			}
			undo := settings{Asked: work.Asked, Place: work.Place, Undo: whole.ID}
			if r := b.run(t, undo); r.State != model.RunDone {
				t.Fatalf("%+v", r)
			}
			if diff := same(before, b.all(t)); diff != "" {
				t.Fatal("undone: ", diff)
			}
			for cut := int64(0); cut < counts.Done; cut += 1 + counts.Done/8 {
				b.cut.Store(cut)
				r := b.run(t, work)
				if r.State != model.RunFailed || !strings.Contains(r.Trouble, fmt.Sprintf("%d of %d are changed", cut, counts.Done)) {
					t.Fatalf("cut after %d: %s, %s", cut, r.State, r.Trouble)
				}
				b.cut.Store(-1)
				if err := b.service.jobs.Resume(t.Context(), r.ID); err != nil {
					t.Fatal(err)
				}
				if r = b.await(t, r.ID); r.State != model.RunDone {
					t.Fatalf("finished: %+v", r)
				}
				if diff := same(after, b.all(t)); diff != "" {
					t.Errorf("cut after %d and finished: %s", cut, diff)
				}
				b.cut.Store(cut) // the undoing is interrupted as well
				undone := b.run(t, settings{Asked: work.Asked, Place: work.Place, Undo: r.ID})
				b.cut.Store(-1)
				if undone.State != model.RunFailed {
					t.Fatalf("undoing cut after %d: %+v", cut, undone)
				}
				if err := b.service.jobs.Resume(t.Context(), undone.ID); err != nil {
					t.Fatal(err)
				}
				if undone = b.await(t, undone.ID); undone.State != model.RunDone {
					t.Fatalf("undone: %+v", undone)
				}
				if diff := same(before, b.all(t)); diff != "" {
					t.Fatalf("cut after %d and undone: %s", cut, diff)
				}
			}
		})
	}
}

// What somebody else changed since the plan, what is gone and what refuses is
// left alone and reported; the rest is changed.
func TestWhatCannotBeChanged(t *testing.T) {
	b := newBench(t)
	work := settings{Asked: model.ChangeRights{Action: model.RightsGrant, Level: acl.Change, Scope: acl.Everything}, SID: ivy, Place: b.place(t).Place}
	b.cut.Store(0)
	r := b.run(t, work)
	objects, err := b.service.db.RightsObjects(t.Context(), r.ID, -1, false, 100)
	if err != nil || len(objects) < 4 {
		t.Fatalf("%d objects, %v", len(objects), err)
	}
	b.cut.Store(-1)
	files := objects[:0:0]
	for _, o := range objects {
		if !o.Folder {
			files = append(files, o)
		}
	}
	elsewhere := descriptorOf(parts(t, "O:BUD:(A;;FA;;;BU)"))
	if err := b.tree.Apply(t.Context(), files[0].Path, tree.Meta{Descriptor: elsewhere}); err != nil {
		t.Fatal(err)
	}
	if err := b.tree.Remove(t.Context(), files[1].Path); err != nil {
		t.Fatal(err)
	}
	refusing := files[2].Path
	b.tree.Fault = func(step, name string) error {
		if step == "apply" && name == refusing {
			return fs.ErrPermission
		}
		return nil
	}
	if err := b.service.jobs.Resume(t.Context(), r.ID); err != nil {
		t.Fatal(err)
	}
	if r = b.await(t, r.ID); r.State != model.RunFailed || !strings.Contains(r.Trouble, fmt.Sprintf("3 of %d could not be changed", len(objects))) {
		t.Errorf("%s: %s", r.State, r.Trouble)
	}
	if now := b.all(t); now[files[0].Path] != elsewhere {
		t.Error("what somebody else set was overwritten")
	}
	failed, err := b.service.db.RightsObjects(t.Context(), r.ID, -1, false, 100, "failed")
	if err != nil || len(failed) != 3 {
		t.Fatalf("%d failed, %v", len(failed), err)
	}
	for _, o := range failed {
		if o.Trouble == "" {
			t.Errorf("nothing says why %s failed", o.Path)
		}
	}
	counts, err := b.service.db.RightsCounts(t.Context(), r.ID)
	if err != nil || counts.Done != int64(len(objects)-3) {
		t.Errorf("%+v, %v", counts, err)
	}
}
