package records_test

import (
	"reflect"
	"testing"
	"time"

	"bridgespan/core/account"
	"bridgespan/core/fault"
	"bridgespan/model"
	"bridgespan/records"
)

// keptSet is a set of two replicas on a server of its own.
func keptSet(t *testing.T, db *records.DB, name string, set model.ReplicaSet, pairs map[account.SID]account.SID) model.ReplicaSet {
	t.Helper()
	ctx := t.Context()
	set.Name, set.Layout, set.Calendar, set.AtticDays, set.Created = name, model.LayoutMesh, "full", 9, time.Now().UTC().Truncate(time.Microsecond)
	if set.Permissions == "" {
		set.Permissions = model.PermissionsCarry
	}
	set.Replicas = []model.Replica{{Name: "one", Server: "hazel " + name, Share: "a", Seed: true}, {Name: "other", Server: "hazel " + name, Share: "b", Accounts: pairs}}
	set.Lanes = []model.Lane{{From: "one", To: "other"}, {From: "other", To: "one"}}
	err := db.Change(ctx, func(tx *records.Tx) error {
		if err := tx.AddSite(ctx, model.Site{Name: "Copse " + name}); err != nil {
			return err
		}
		if err := tx.AddServer(ctx, model.Server{Name: "hazel " + name, Site: "Copse " + name, Address: "hazel." + name, Port: 445, Account: "warden"}, []byte("sealed")); err != nil {
			return err
		}
		return tx.AddReplicaSet(ctx, &set)
	})
	if err != nil {
		t.Fatal(err)
	}
	return set
}

func testAccountMaps(t *testing.T, db *records.DB) {
	ctx := t.Context()
	change := func(do func(tx *records.Tx) error) error { return db.Change(ctx, do) }
	trees := model.AccountMap{Name: "Trees", Note: "of two woods", Rules: []string{`oak\* = elm\*`, `oak\a = elm\b`}}
	if err := change(func(tx *records.Tx) error { return tx.AddAccountMap(ctx, trees) }); err != nil {
		t.Fatal(err)
	}
	err := change(func(tx *records.Tx) error {
		return tx.AddAccountMap(ctx, model.AccountMap{Name: "trees", Rules: []string{}})
	})
	wantKind(t, "a name that is taken", err, fault.Taken)
	trees.Version = 1
	if got, err := db.AccountMap(ctx, "trees"); err != nil || !reflect.DeepEqual(got, trees) {
		t.Errorf("%+v, %v", got, err)
	}
	_, err = db.AccountMap(ctx, "shrubs")
	wantKind(t, "a map that is not there", err, fault.NotFound)
	a, b, c := account.MustSID("S-1-5-21-1-1-1-1001"), account.MustSID("S-1-5-21-2-2-2-1001"), account.MustSID("S-1-5-21-2-2-2-1002")
	pairs := map[account.SID]account.SID{a: c, b: b}
	set := keptSet(t, db, "mapped", model.ReplicaSet{Permissions: model.PermissionsMap, AccountMap: "trees", AccountsOf: "hazel mapped"}, pairs)
	if got, err := db.ReplicaSet(ctx, "mapped"); err != nil || got.AccountMap != "Trees" || got.AccountsOf != "hazel mapped" || got.Permissions != model.PermissionsMap {
		t.Errorf("%+v, %v", got, err)
	}
	for i, want := range []map[account.SID]account.SID{{}, pairs} {
		if got, err := db.ReplicaAccounts(ctx, set.Replicas[i].ID); err != nil || !reflect.DeepEqual(got, want) {
			t.Errorf("accounts at %s: %v, %v", set.Replicas[i].Name, got, err)
		}
	}
	wantKind(t, "a map that is used", change(func(tx *records.Tx) error { return tx.RemoveAccountMap(ctx, trees) }), fault.Needed)
	trees.Name, trees.Rules = "Shrubs", trees.Rules[:1]
	if err := change(func(tx *records.Tx) error { return tx.UpdateAccountMap(ctx, "TREES", trees) }); err != nil {
		t.Error(err)
	}
	wantKind(t, "an old version", change(func(tx *records.Tx) error { return tx.UpdateAccountMap(ctx, "shrubs", trees) }), fault.Stale)
	if err := change(func(tx *records.Tx) error { return tx.RemoveReplicaSet(ctx, model.ReplicaSet{ID: set.ID, Version: 1}) }); err != nil {
		t.Fatal(err)
	}
	if got, err := db.ReplicaAccounts(ctx, set.Replicas[1].ID); err != nil || len(got) != 0 {
		t.Errorf("after the end of the set: %v, %v", got, err)
	}
	if list, err := db.AccountMaps(ctx, records.All); err != nil || len(list) != 1 || list[0].Sets != 0 || list[0].Version != 2 {
		t.Errorf("%+v, %v", list, err)
	}
	trees.Version = 2
	if err := change(func(tx *records.Tx) error { return tx.RemoveAccountMap(ctx, trees) }); err != nil {
		t.Error(err)
	}
}
