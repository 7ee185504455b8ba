package e2e

import (
	"net/http"
	"slices"
	"strings"
	"testing"

	"bridgespan/core/account"
	"bridgespan/core/acl"
	"bridgespan/core/finding"
	"bridgespan/e2e/harness"
	"bridgespan/model"
	"bridgespan/standin/standintest"
	"bridgespan/tree"
)

// accountMapping is a set whose permissions are carried through an account map.
type accountMapping struct {
	*verifying
	oakKeepers, ashKeepers account.SID
}

// grants are the accounts that a path's permissions name, other than administrators.
func (m *accountMapping) grants(replica, name string) (list []account.SID) {
	d, err := m.trees[replica].Descriptor(m.Context(), name)
	if err != nil {
		return nil
	}
	for _, e := range d.Parts().Entries() {
		if e.Account != account.Administrators && !slices.Contains(list, e.Account) {
			list = append(list, e.Account)
		}
	}
	return list
}

// TestAccountMap carries permissions from one server to another on which other
// accounts are those of the same people, and back.
func TestAccountMap(t *testing.T) {
	t.Parallel()
	e := harness.StartEstate(t)
	api, ctx := e.API, t.Context()
	ash := standintest.StrangeFileServer(t, "ash", "store", "quiet")
	if _, err := api.AddServer(ctx, harness.NewServer("ash", "Upland", ash)); err != nil {
		t.Fatal(err)
	}
	harness.Fill(t, ash)
	quiet := harness.Tree(t, ash, "quiet")
	m := &accountMapping{verifying: &verifying{&gardenSet{T: t, e: e, trees: map[string]tree.Tree{"oak": harness.Tree(t, e.Oak, "quiet"), "ash": within(quiet, "copy")}}},
		oakKeepers: account.MustSID(e.Oak.SID + "-2001"), ashKeepers: account.MustSID(ash.SID + "-2001")}
	testMaps(m)
	asked := model.NewReplicaSet{Name: "beds", Permissions: model.PermissionsMap, AccountMap: "trees", Replicas: []model.NewReplica{{Server: "oak", Share: "quiet"}, {Server: "ash", Share: "quiet", Sub: "copy", Rights: "seed"}}}
	testMapRefused(m, asked)
	p := planned(t, api, asked)
	if i := slices.IndexFunc(p.Checks, func(l finding.Finding) bool { return l.Code == "accounts" }); i < 0 || p.Checks[i].Severity != finding.Pass || !strings.Contains(p.Checks[i].Found, "by the map trees") {
		t.Errorf("the plan says of accounts: %+v", p.Checks)
	}
	if steps := strings.Join(p.Steps, "|"); !strings.Contains(steps, "with the permissions of the seed's folder") || !strings.Contains(steps, "by the map trees") {
		t.Errorf("steps %s", steps)
	}
	var last model.ReplicaCreation
	if _, err := api.CreateReplicaSet(ctx, asked, func(c model.ReplicaCreation) { last = c }); err != nil {
		t.Fatal(err)
	}
	for _, s := range last.Steps {
		if s.State != model.StepDone && s.State != model.StepAwaited || s.At == nil {
			t.Errorf("step %+v", s)
		}
	}
	if got := m.grants("ash", "."); !slices.Equal(got, []account.SID{m.ashKeepers}) {
		t.Errorf("the folder that was made lets in %v", got)
	}
	m.await("the first fill", steady)
	ledger := "2026/spring/ledger.csv"
	if got := m.grants("ash", ledger); !slices.Equal(got, []account.SID{m.ashKeepers}) {
		t.Errorf("the ledger at ash lets in %v, want ash's keepers", got)
	}
	// The other way: who is let in at ash is let in at oak, as oak calls them.
	d, err := acl.Parse("O:BAG:BAD:P(A;;FA;;;BA)(A;;FR;;;" + m.ashKeepers.String() + ")")
	if err == nil {
		err = m.trees["ash"].Apply(ctx, ledger, tree.Meta{Descriptor: d})
	}
	if err != nil {
		t.Fatal(err)
	}
	m.look()
	m.await("permissions from ash", func(model.ReplicaSet) bool {
		d, err := m.trees["oak"].Descriptor(ctx, ledger)
		return err == nil && d.Parts().Protected() && slices.Equal(m.grants("oak", ledger), []account.SID{m.oakKeepers})
	})
	m.await("rest", steady)
	if v := m.verify("full"); v.Replicas[0].Counts.Unexplained()+v.Replicas[0].Counts.Explained != 0 {
		t.Errorf("after the way there and back: %+v", v.Replicas)
	}
	testMapChanged(m, ledger)
}

// testMaps makes, shows, changes and refuses maps.
func testMaps(m *accountMapping) {
	m.Helper()
	api, ctx := m.e.API, m.Context()
	for what, c := range map[string]struct {
		n     model.NewAccountMap
		field string
	}{
		"no name":       {model.NewAccountMap{Rules: []string{`oak\* = ash\*`}}, "name"},
		"no rule":       {model.NewAccountMap{Name: "trees", Rules: []string{}}, "rules"},
		"half a rule":   {model.NewAccountMap{Name: "trees", Rules: []string{`oak\* = ash\*`, `oak\keepers`}}, "rules[1]"},
		"all to one":    {model.NewAccountMap{Name: "trees", Rules: []string{`oak\* = ash\keepers`}}, "rules[0]"},
		"one server":    {model.NewAccountMap{Name: "trees", Rules: []string{`oak\a = oak\b`}}, "rules[0]"},
		"a long remark": {model.NewAccountMap{Name: "trees", Note: strings.Repeat("x", 1001), Rules: []string{`oak\* = ash\*`}}, "note"},
	} {
		_, err := api.AddAccountMap(ctx, c.n)
		refused(m.T, what, err, http.StatusUnprocessableEntity, c.field)
	}
	made, err := api.AddAccountMap(ctx, model.NewAccountMap{Name: "trees", Rules: []string{`oak\* =ash\*`}})
	if err != nil || !slices.Equal(made.Rules, []string{`oak\* = ash\*`}) {
		m.Fatalf("%+v, %v", made, err)
	}
	_, err = api.AddAccountMap(ctx, model.NewAccountMap{Name: "Trees", Rules: []string{`oak\* = ash\*`}})
	refused(m.T, "a name that is taken", err, http.StatusConflict, "name")
	// Somebody who belongs to ash's keepers and not to oak's gains by the map.
	if _, err := api.CreateLocalUser(ctx, "ash", model.NewLocalUser{Name: "rowan", Password: "Rowan-tree-9!"}); err != nil {
		m.Fatal(err)
	}
	if err := api.SetMember(ctx, "ash", "keepers", "rowan", true); err != nil {
		m.Fatal(err)
	}
	p, err := api.AccountPairs(ctx, "trees", "oak", "ash")
	if err != nil || len(p.Pairs) == 0 || !slices.ContainsFunc(p.Pairs, func(pair model.AccountPair) bool {
		return pair.One.SID == m.oakKeepers.String() && pair.Other.SID == m.ashKeepers.String()
	}) || !slices.ContainsFunc(p.Wider, func(w string) bool { return strings.Contains(w, "rowan") }) {
		m.Errorf("pairs %+v, %v", p, err)
	}
	_, err = api.AccountPairs(ctx, "trees", "oak", "oak")
	refused(m.T, "pairs of one server", err, http.StatusUnprocessableEntity, "other")
}

func testMapRefused(m *accountMapping, asked model.NewReplicaSet) {
	m.Helper()
	for field, change := range map[string]func(*model.NewReplicaSet){
		"accountMap":         func(n *model.NewReplicaSet) { n.AccountMap = "" },
		"replicas[1].rights": func(n *model.NewReplicaSet) { n.Replicas[1].Rights = "D:P(A;;" },
		"publish":            func(n *model.NewReplicaSet) { n.Publish = "/garden" },
	} {
		n := asked
		n.Replicas = slices.Clone(asked.Replicas)
		change(&n)
		_, err := m.e.API.BeginReplicaSet(m.Context(), n)
		refused(m.T, field, err, http.StatusUnprocessableEntity, field)
	}
	n := asked
	n.Permissions = model.PermissionsCarry
	_, err := m.e.API.BeginReplicaSet(m.Context(), n)
	refused(m.T, "a map that nothing is carried through", err, http.StatusUnprocessableEntity, "accountMap")
	// A step that fails takes those before it back.
	n = asked
	n.Publish = "/nowhere/beds"
	var last model.ReplicaCreation
	if _, err := m.e.API.CreateReplicaSet(m.Context(), n, func(c model.ReplicaCreation) { last = c }); err == nil {
		m.Error("a set was published in no namespace")
	}
	states := map[string]int{}
	for _, s := range last.Steps {
		states[s.State]++
	}
	if states[model.StepFailed] != 1 || states[model.StepUndone] != 2 {
		m.Errorf("steps %+v", last.Steps)
	}
	if _, err := m.trees["ash"].Stat(m.Context(), "."); err == nil {
		m.Error("the folder that was made is still there")
	}
	if sets, err := m.e.API.ReplicaSets(m.Context()); err != nil || len(sets) != 0 {
		m.Errorf("there are %+v, %v", sets, err)
	}
}

// testMapChanged pairs accounts anew.
func testMapChanged(m *accountMapping, ledger string) {
	m.Helper()
	api, ctx := m.e.API, m.Context()
	refused(m.T, "a map that is used", api.RemoveAccountMap(ctx, "trees"), http.StatusConflict, "")
	wardens, err := api.CreateLocalGroup(ctx, "ash", "wardens")
	if err != nil {
		m.Fatal(err)
	}
	rules := []string{`oak\keepers = ash\wardens`}
	if _, err := api.EditAccountMap(ctx, "trees", model.EditAccountMap{Rules: &rules}); err != nil {
		m.Fatal(err)
	}
	list, err := api.ReplicaAccounts(ctx, "beds")
	if err != nil || len(list) != 2 || list[0].Stale || !list[1].Stale || len(list[1].Pairs) == 0 {
		m.Errorf("accounts %+v, %v", list, err)
	}
	if got := m.grants("ash", ledger); !slices.Equal(got, []account.SID{m.ashKeepers}) {
		m.Errorf("the change of the map alone lets in %v", got)
	}
	told := func(s model.ReplicaSet) bool {
		return slices.ContainsFunc(s.Alerts, func(a finding.Finding) bool { return a.Code == "accounts" && a.Subject == "ash" })
	}
	m.await("an alert about the pairs", told)
	if _, err := api.RenewReplicaAccounts(ctx, "beds"); err != nil {
		m.Fatal(err)
	}
	m.await("the end of the alert", func(s model.ReplicaSet) bool { return !told(s) })
	m.await("ash's wardens in place of its keepers", func(s model.ReplicaSet) bool {
		return steady(s) && slices.Equal(m.grants("ash", ledger), []account.SID{account.MustSID(wardens.SID)})
	})
	if got := m.grants("oak", ledger); !slices.Equal(got, []account.SID{m.oakKeepers}) {
		m.Errorf("at oak %v are let in", got)
	}
	if list, err = api.ReplicaAccounts(ctx, "beds"); err != nil || list[1].Stale || len(list[1].Pairs) != 1 {
		m.Errorf("accounts %+v, %v", list, err)
	}
}
