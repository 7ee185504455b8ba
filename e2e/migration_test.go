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
	"bridgespan/e2e/harness"
	"bridgespan/model"
	"bridgespan/standin/standintest"
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
		{[]string{"migration", "edit", "--source", "elm", "--leave-none", "oak to beech"}, "", 0, "elm/store"},
		{[]string{"migration", "survey", "oak to beech"}, "", 0, "2 of 2 shares surveyed"},
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
