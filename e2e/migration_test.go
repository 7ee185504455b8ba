package e2e

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"bridgespan/core/account"
	"bridgespan/core/finding"
	"bridgespan/e2e/harness"
	"bridgespan/model"
	"bridgespan/standin/standintest"
	"bridgespan/tree"
)

// A migration knows the shares of its sources, what is in them, and whom their permissions name.
func testMigrations(t *testing.T, g *grove) {
	ctx := t.Context()
	for _, c := range []struct {
		field  string
		status int
		draft  model.MigrationDraft
	}{
		{"sources[0]", http.StatusNotFound, model.MigrationDraft{Sources: []string{"beech"}}},
		{"sources[0]", http.StatusUnprocessableEntity, model.MigrationDraft{Sources: []string{"oak/nothing"}}},
		{"sources[0]", http.StatusUnprocessableEntity, model.MigrationDraft{Sources: []string{"oak/papers/2026"}}},
		{"sources[1]", http.StatusUnprocessableEntity, model.MigrationDraft{Sources: []string{"oak", "oak/papers"}}},
		{"sources[1]", http.StatusUnprocessableEntity, model.MigrationDraft{Sources: []string{"oak/papers", "OAK/Papers"}}},
		{"leave[0]", http.StatusUnprocessableEntity, model.MigrationDraft{Sources: []string{"oak"}, Leave: []string{"elm/quiet"}}},
		{"leave[0]", http.StatusUnprocessableEntity, model.MigrationDraft{Sources: []string{"oak"}, Leave: []string{"oak"}}},
		{"leave[1]", http.StatusUnprocessableEntity, model.MigrationDraft{Sources: []string{"oak"}, Leave: []string{"oak/store", "oak/STORE"}}},
		{"folders[0].share", http.StatusUnprocessableEntity, model.MigrationDraft{Sources: []string{"oak"}, Folders: []model.MigrationFolder{{Share: "elm/quiet", Folder: "a"}}}},
		{"folders[0].folder", http.StatusUnprocessableEntity, model.MigrationDraft{Sources: []string{"oak"}, Folders: []model.MigrationFolder{{Share: "oak/papers", Folder: "a/../.."}}}},
		{"folders[0].folder", http.StatusUnprocessableEntity, model.MigrationDraft{Sources: []string{"oak"}, Folders: []model.MigrationFolder{{Share: "oak/papers", Folder: "/"}}}},
		{"folders[1].share", http.StatusUnprocessableEntity, model.MigrationDraft{Sources: []string{"oak"}, Folders: []model.MigrationFolder{{Share: "oak/papers", Folder: "a"}, {Share: "OAK/Papers", Folder: "b"}}}},
		{"target", http.StatusUnprocessableEntity, model.MigrationDraft{Sources: []string{"oak"}, Target: "elm"}},
		{"target", http.StatusUnprocessableEntity, model.MigrationDraft{Sources: []string{"oak"}, Target: "elm/nothing"}},
		{"target", http.StatusUnprocessableEntity, model.MigrationDraft{Sources: []string{"oak"}, Target: "elm/quiet/../.."}},
		{"target", http.StatusUnprocessableEntity, model.MigrationDraft{Sources: []string{"oak"}, Target: "oak/store"}},
		{"target", http.StatusUnprocessableEntity, model.MigrationDraft{Sources: []string{"oak/papers"}, Target: "oak/papers/copies"}},
		{"target", http.StatusNotFound, model.MigrationDraft{Sources: []string{"oak"}, Target: "beech/store"}},
	} {
		_, err := g.api.AddMigration(ctx, model.NewMigration{Name: "oak to beech", MigrationDraft: c.draft})
		refused(t, fmt.Sprint(c.draft), err, c.status, c.field)
	}
	if list, err := g.api.Migrations(ctx); err != nil || len(list) != 0 {
		t.Errorf("after refusals: %+v, %v", list, err)
	}
	m, err := g.api.AddMigration(ctx, model.NewMigration{Name: "oak to beech", MigrationDraft: model.MigrationDraft{Sources: []string{"OAK", "elm/Quiet"}, Leave: []string{"oak/STORE"}}})
	if err != nil || !slices.Equal(m.Sources, []string{"oak", "elm/quiet"}) || !slices.Equal(m.Leave, []string{"oak/store"}) {
		t.Fatalf("%+v, %v", m, err)
	}
	left := map[string]string{}
	for _, h := range m.Shares {
		left[h.Server+"/"+h.Share] = h.Left
	}
	if left["oak/store"] != model.LeftByChoice || left["oak/IPC$"] != model.LeftByKind || left["oak/papers"]+left["elm/quiet"] != "" || len(left) < 4 {
		t.Errorf("left: %v", left)
	}
	_, err = g.api.AddMigration(ctx, model.NewMigration{Name: "Oak to Beech", MigrationDraft: m.MigrationDraft})
	refused(t, "the same name", err, http.StatusConflict, "name")
	testMigrationSurvey(t, g)
	testMigrationTarget(t, g)
	testMigrationCommands(t, g)
	if err := g.api.RemoveMigration(ctx, "oak to beech"); err != nil {
		t.Error(err)
	}
	_, err = g.api.Migration(ctx, "oak to beech")
	refused(t, "a removed migration", err, http.StatusNotFound, "")
}

func testMigrationSurvey(t *testing.T, g *grove) {
	ctx := t.Context()
	runs, err := g.api.SurveyMigration(ctx, "oak to beech")
	if err != nil || len(runs) != 2 {
		t.Fatalf("%+v, %v", runs, err)
	}
	for _, r := range runs {
		if r = g.ended(t, r.ID); r.State != model.RunDone {
			t.Fatalf("%+v", r)
		}
	}
	m, err := g.api.Migration(ctx, "oak to beech")
	if err != nil || m.Totals.Shares != 2 || m.Totals.Surveyed != 2 || m.Totals.Files < 8000 || m.Totals.KeptOut == 0 || m.Totals.ChangedPerDay == 0 || len(m.Missing) != 0 {
		t.Errorf("%+v, %v", m.Totals, err)
	}
	papers, err := g.api.Survey(ctx, m.Shares[slices.IndexFunc(m.Shares, func(h model.MigrationShare) bool { return h.Share == "papers" })].Counts.Run)
	if err != nil {
		t.Fatal(err)
	}
	list, err := g.api.MigrationAccounts(ctx, "oak to beech")
	if err != nil || len(list) < 4 || list[0].Reach != account.ReachNone || list[len(list)-1].Reach != account.ReachEverywhere {
		t.Fatalf("accounts %+v, %v", list, err)
	}
	for _, a := range papers.Accounts {
		i := slices.IndexFunc(list, func(other model.MigrationAccount) bool { return other.SID == a.SID && other.Server == "oak" })
		if i < 0 || list[i].Files != a.Files || list[i].Folders != a.Folders {
			t.Errorf("%s is on %d files", a.Name, a.Files)
		}
	}
	for form, wants := range map[string][]string{"html": {"<h1>Survey of oak to beech</h1>", "oak/papers", ">nobody<", list[0].SID, "stays"}, "shares": {"oak,papers,,done,"}, "accounts": {"everywhere", "unresolved"}} {
		var text bytes.Buffer
		if err := g.api.MigrationSurveyReport(ctx, "oak to beech", form, &text); err != nil {
			t.Error(err)
		}
		for _, want := range wants {
			if !strings.Contains(text.String(), want) {
				t.Errorf("%s: no %q in %.2000s", form, want, text.String())
			}
		}
		if form == "html" {
			continue
		}
		if lines, err := csv.NewReader(&text).ReadAll(); err != nil || len(lines) < 4 {
			t.Errorf("%s: %d lines, %v", form, len(lines), err)
		}
	}
}

// testMigrationTarget: a check of the target finds what is in the way, and is forgotten when something was changed.
func testMigrationTarget(t *testing.T, g *grove) {
	ctx := t.Context()
	_, err := g.api.CheckMigrationTarget(ctx, "oak to beech")
	refused(t, "without a target", err, http.StatusUnprocessableEntity, "target")
	edit := func(e model.EditMigration) {
		t.Helper()
		if m, err := g.api.EditMigration(ctx, "oak to beech", e); err != nil || m.TargetChecked != nil || len(m.TargetChecks) != 0 {
			t.Fatalf("%+v, %v", m, err)
		}
	}
	edit(model.EditMigration{Sources: []string{"oak/papers"}, Leave: new([]string{}), Target: new("ELM/Store/old/oak")})
	severities := func() (found map[string]finding.Severity) {
		t.Helper()
		m, err := g.api.CheckMigrationTarget(ctx, "oak to beech")
		if err != nil || m.TargetChecked == nil || m.Target != "elm/store/old/oak" {
			t.Fatalf("%+v, %v", m, err)
		}
		if again, err := g.api.Migration(ctx, "oak to beech"); err != nil || len(again.TargetChecks) != len(m.TargetChecks) {
			t.Errorf("stored are %+v, %v", again.TargetChecks, err)
		}
		found = map[string]finding.Severity{}
		for _, f := range m.TargetChecks {
			if worst, ok := found[f.Code]; !ok || f.Severity.Rank() < worst.Rank() {
				found[f.Code] = f.Severity
			}
			if (f.Severity == finding.Pass) != (f.Remedy == "") {
				t.Errorf("%+v", f)
			}
		}
		return found
	}
	found := severities()
	for code, want := range map[string]finding.Severity{"rights": finding.Pass, "clock": finding.Pass, "space": finding.Pass, "features": finding.Pass, "folders": finding.Pass, "shares": finding.Pass, "accounts": finding.Warn} {
		if found[code] != want {
			t.Errorf("%s: %s, want %s", code, found[code], want)
		}
	}
	store := g.tree(t, g.elm, "warden", "store")
	if err := tree.MkdirAll(ctx, store, "old/oak/papers"); err != nil {
		t.Fatal(err)
	}
	if found := severities(); found["folders"] != finding.Pass {
		t.Errorf("an empty folder is in the way: %v", found)
	}
	if _, err := store.Put(ctx, "old/oak/papers/ledger.csv", strings.NewReader("1"), tree.PutOptions{}); err != nil {
		t.Fatal(err)
	}
	edit(model.EditMigration{Sources: []string{"oak/papers", "oak/store"}})
	if found := severities(); found["folders"] != finding.Warn || found["shares"] != finding.Warn || found["survey"] != finding.Warn {
		t.Errorf("with what is there: %v", found)
	}
	edit(model.EditMigration{Folders: &[]model.MigrationFolder{{Share: "oak/Store", Folder: "new/store/"}, {Share: "oak/papers", Folder: "NEW/store"}}})
	if found := severities(); found["folders"] != finding.Fail {
		t.Errorf("two shares in one folder: %v", found)
	}
	edit(model.EditMigration{Folders: &[]model.MigrationFolder{{Share: "oak/store", Folder: "new"}, {Share: "oak/papers", Folder: "new/papers"}}})
	if found := severities(); found["folders"] != finding.Fail {
		t.Errorf("one share inside of another: %v", found)
	}
	edit(model.EditMigration{Folders: &[]model.MigrationFolder{{Share: "oak/papers", Folder: "new"}}})
	if found := severities(); found["folders"] != finding.Pass {
		t.Errorf("in new folders: %v", found)
	}
	edit(model.EditMigration{Sources: []string{"oak", "elm/quiet"}, Target: new(""), Leave: new([]string{"oak/store"}), Folders: new([]model.MigrationFolder{})})
	for _, name := range []string{"old/oak/papers/ledger.csv", "old/oak/papers", "old/oak", "old"} {
		if err := store.Remove(ctx, name); err != nil {
			t.Fatal(err)
		}
	}
}

func testMigrationCommands(t *testing.T, g *grove) {
	s := shell{harness.Program(t, "bspan"), t.TempDir()}
	page := filepath.Join(t.TempDir(), "survey.html")
	for _, step := range []struct {
		args  []string
		input string
		code  int
		says  string
	}{
		{[]string{"--server", g.Base, "login", "--name", harness.Admin, "--password-file", "-"}, harness.Password + "\n", 0, "administrator"},
		{[]string{"migration", "list"}, "", 0, "oak elm/quiet"},
		{[]string{"migration", "show", "oak to beech"}, "", 0, "stays (administrative)"},
		{[]string{"migration", "show", "--accounts", "oak to beech"}, "", 0, "nobody"},
		{[]string{"migration", "edit", "oak to beech"}, "", 2, "--leave-none"},
		{[]string{"migration", "edit", "--leave", "oak/store", "--leave-none", "oak to beech"}, "", 2, "exclude each other"},
		{[]string{"migration", "edit", "--rehearse", "--note", "of the lowland", "oak to beech"}, "", 0, "note"},
		{[]string{"migration", "edit", "--folder", "oak/papers", "oak to beech"}, "", 2, "SERVER/SHARE=FOLDER"},
		{[]string{"migration", "edit", "--folder", "oak/papers=old/papers", "oak to beech"}, "", 0, "old/papers"},
		{[]string{"migration", "edit", "--folder", "elm/store=", "--source", "elm", "--leave-none", "oak to beech"}, "", 2, "no folder"},
		{[]string{"migration", "edit", "--folder", "elm/store=stores/elm", "--source", "elm", "--leave-none", "oak to beech"}, "", 0, "elm/store"},
		{[]string{"migration", "survey", "oak to beech"}, "", 0, "2 of 2 shares surveyed"},
		{[]string{"migration", "target", "oak to beech"}, "", 2, "bspan migration target"},
		{[]string{"migration", "target", "--rehearse", "oak to beech"}, "", 2, "a check changes nothing"},
		{[]string{"migration", "target", "--rehearse", "oak to beech", "oak/papers/from elm"}, "", 0, "nothing was changed"},
		{[]string{"migration", "target", "oak to beech"}, "", 2, "has no target yet"},
		{[]string{"migration", "target", "oak to beech", "oak/papers/from elm"}, "", 0, "2 folders go there"},
		{[]string{"migration", "show", "oak to beech"}, "", 0, "Target: oak/papers/from elm, checked"},
		{[]string{"migration", "target", "oak to beech", "elm/quiet"}, "", 2, "is one of them"},
		{[]string{"migration", "report", "oak to beech", page}, "", 0, "is written"},
		{[]string{"migration", "report", "oak to beech", page + ".txt"}, "", 2, ".html"},
		{[]string{"migration", "report", "--accounts", "oak to beech", page}, "", 2, ".csv"},
		{[]string{"migration", "add", "other"}, "", 2, "SERVER[/SHARE]"},
		{[]string{"migration", "add", "--rehearse", "other", "elm"}, "", 0, "other"},
		{[]string{"migration", "show", "other"}, "", 1, "migration list"},
	} {
		out, complaint, code := s.run(t, step.input, step.args...)
		if code != step.code || !strings.Contains(out+complaint, step.says) {
			t.Errorf("bspan %s: exit %d, want %d and %q:\n%s%s", strings.Join(step.args, " "), code, step.code, step.says, out, complaint)
		}
	}
	if text, err := os.ReadFile(page); err != nil || !strings.Contains(string(text), "elm/store") || strings.Contains(string(text), standintest.Password("warden")) {
		t.Errorf("the page has %d bytes, %v", len(text), err)
	}
}
