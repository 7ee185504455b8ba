package edges

import (
	"io/fs"
	"slices"
	"strings"
	"testing"

	"bridgespan/core/account"
	"bridgespan/core/acl"
	"bridgespan/model"
	"bridgespan/service/replicas/sets"
	"bridgespan/tree"
	"bridgespan/tree/memory"
)

// The accounts of all permissions are collected, except those of the service's own folder; what cannot be read is counted.
func TestCollectAccounts(t *testing.T) {
	files := &memory.Tree{}
	put := func(name, sddl string) {
		t.Helper()
		d, err := acl.Parse(sddl)
		if err != nil {
			t.Fatal(err)
		}
		if err := tree.MkdirAll(t.Context(), files, name[:strings.LastIndex(name, "/")]); err != nil {
			t.Fatal(err)
		}
		if _, err := tree.Stage(t.Context(), files, name, strings.NewReader("x"), tree.PutOptions{Meta: tree.Meta{Descriptor: d}}); err != nil {
			t.Fatal(err)
		}
	}
	put("beds/a", "O:S-1-5-21-1-2-3-1001G:BAD:(A;;FA;;;BA)")
	put("beds/b", "O:S-1-5-21-1-2-3-1001G:BAD:(A;;FA;;;S-1-5-21-1-2-3-1002)")
	put(".bspan/attic/x", "O:S-1-5-21-1-2-3-1003G:BAD:(A;;FA;;;BA)")
	put("closed/c", "O:S-1-5-21-1-2-3-1004G:BAD:(A;;FA;;;BA)")
	files.Fault = func(step, name string) error {
		if step == "list" && name == "closed" {
			return tree.PathError(step, name, fs.ErrPermission)
		}
		return nil
	}
	l := &accountLister{set: &model.ReplicaSet{}}
	if err := l.collect(t.Context(), files, func(int64) {}); err != nil {
		t.Fatal(err)
	}
	uses := map[string]int64{}
	for _, a := range l.result.Accounts {
		uses[a.SID] = a.Uses
	}
	for sid, want := range map[string]int64{"S-1-5-21-1-2-3-1001": 2, "S-1-5-21-1-2-3-1002": 1, "S-1-5-21-1-2-3-1003": 0, "S-1-5-21-1-2-3-1004": 0, "S-1-5-32-544": 1} {
		if uses[sid] != want {
			t.Errorf("%s: %d items, want %d", sid, uses[sid], want)
		}
	}
	if l.result.Unread != 1 {
		t.Errorf("%d could not be read", l.result.Unread)
	}
}

// Accounts that a server cannot resolve come first, each with its effect and a remedy.
func TestFinishAccounts(t *testing.T) {
	l := &accountLister{set: &model.ReplicaSet{AccountsOf: "oak", Permissions: model.PermissionsMap}}
	for _, sid := range []string{"S-1-5-21-1-2-3-1", "S-1-5-21-1-2-3-2", "S-1-5-21-1-2-3-3", "S-1-5-21-1-2-3-4"} {
		l.uses.List = append(l.uses.List, sets.AccountUse{SID: account.MustSID(sid)})
		l.result.Accounts = append(l.result.Accounts, model.AccountUse{SID: sid, Name: sid})
		l.sights = append(l.sights, nil)
	}
	at := func(i int, replica, server, name string, known, paired bool) {
		l.resolved(i, model.AccountSeenAt{Replica: replica, Server: server, Name: name, Known: known, Paired: paired})
	}
	at(0, "oak", "oak", `TRUST\ivy`, true, false)
	at(0, "sedge", "island", `TRUST\ivy`, true, false)
	at(1, "oak", "oak", `oak\ada`, true, false)
	at(1, "sedge", "island", `island\ada`, true, true)
	at(2, "oak", "oak", `oak\scanners`, true, false)
	at(2, "sedge", "island", "S-1-5-21-1-2-3-3", false, false)
	at(3, "oak", "oak", "S-1-5-21-1-2-3-4", false, false)
	at(3, "sedge", "island", "S-1-5-21-1-2-3-4", false, false)
	list := l.finish().Accounts
	var names []string
	for _, a := range list {
		names = append(names, string(a.Reach)+" "+a.Name)
	}
	if want := []string{"unresolved S-1-5-21-1-2-3-4", `local oak\scanners`, `mapped oak\ada`, `everywhere TRUST\ivy`}; !slices.Equal(names, want) {
		t.Errorf("listed %q, want %q", names, want)
	}
	if a := list[1]; !strings.Contains(a.Effect, "at sedge") || !strings.HasPrefix(a.Remedy, "add it to the account map") {
		t.Errorf("a local account: %q, %q", a.Effect, a.Remedy)
	}
	if a := list[3]; a.Effect != "" || a.Remedy != "" {
		t.Errorf("an account that is the same everywhere: %q, %q", a.Effect, a.Remedy)
	}
	other := model.AccountUse{Reach: account.ReachLocal, There: []model.AccountSeenAt{{Replica: "elm"}}}
	if explain(&other, model.PermissionsCarry); !strings.HasPrefix(other.Remedy, "map accounts") {
		t.Errorf("without a map: %q", other.Remedy)
	}
}
