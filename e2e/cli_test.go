package e2e

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"bridgespan/e2e/harness"
	"bridgespan/model"
	"bridgespan/standin/standintest"
)

// shell runs the command line with a sign-in file of its own.
type shell struct{ program, home string }

func (s shell) run(t *testing.T, input string, args ...string) (out, complaint string, code int) {
	t.Helper()
	cmd := exec.Command(s.program, args...)
	cmd.Env = append(os.Environ(), "XDG_CONFIG_HOME="+s.home)
	cmd.Stdin = strings.NewReader(input)
	var stdout, stderr bytes.Buffer
	cmd.Stdout, cmd.Stderr = &stdout, &stderr
	if err := cmd.Run(); err != nil && cmd.ProcessState == nil {
		t.Fatal(err)
	}
	return stdout.String(), stderr.String(), cmd.ProcessState.ExitCode()
}

func testCommandLine(t *testing.T, e *harness.Estate) {
	s := shell{harness.Program(t, "bspan"), t.TempDir()}
	if _, err := e.API.AddUser(t.Context(), model.NewUser{Name: "reader", Password: harness.Password, Role: model.Viewer}); err != nil {
		t.Fatal(err)
	}
	login := func(name string) []string {
		return []string{"--server", e.Base, "login", "--name", name, "--password-file", "-"}
	}
	for _, step := range []struct {
		name  string
		args  []string
		input string
		code  int
		says  string
	}{
		{"before signing in", []string{"whoami"}, "", 3, "bspan login"},
		{"wrong password", login(harness.Admin), "wrong\n", 3, "wrong"},
		{"sign in", login(harness.Admin), harness.Password + "\n", 0, "administrator"},
		{"who", []string{"whoami"}, "", 0, harness.Admin},
		{"add a site", []string{"site", "add", "Far Shore", "--note", "reached by boat"}, "", 0, "added site Far Shore"},
		{"link it", []string{"site", "link", "--mbit", "20", "--cost", "90", "Far Shore", "Lowland"}, "", 0, "linked"},
		{"list sites", []string{"site", "list"}, "", 0, "reached by boat"},
		{"legs", []string{"site", "legs"}, "", 0, "Far Shore"},
		{"add a server", []string{"server", "add", "beech", "--site", "Far Shore", "--address", e.Elm.Address, "--port", itoa(e.Elm.Port), "--account", "warden", "--password-file", "-"}, standintest.Password("warden") + "\n", 0, "2 shares"},
		{"check it", []string{"server", "check", "beech"}, "", 0, "SMB 3.1.1"},
		{"show it", []string{"server", "show", "beech"}, "", 0, "Far Shore"},
		{"list servers", []string{"server", "list"}, "", 0, "answers"},
		{"list shares", []string{"share", "list", "beech"}, "", 0, "quiet"},
		{"show a share", []string{"share", "show", "beech/store"}, "", 0, "2026"},
		{"create", []string{"namespace", "create", "shore"}, "", 0, "made namespace shore"},
		{"add a signpost", []string{"namespace", "add", "/shore/a/store", "--to", "beech/store"}, "", 0, "leads to beech/store"},
		{"add a location", []string{"namespace", "add", "/shore/a/store", "--to", "oak/store"}, "", 0, "held (not verified yet)"},
		{"where, held", []string{"where", "/shore/a/store", "--from", "Lowland"}, "", 0, "held: not verified yet"},
		{"open it", []string{"namespace", "open", "/shore/a/store", "--location", "oak/store"}, "", 0, "is open"},
		{"where", []string{"where", "/shore/a/store", "--from", "Lowland", "--as", "ada"}, "", 0, "same site"},
		{"show", []string{"namespace", "tree", "shore"}, "", 0, "oak/store"},
		{"rehearse", []string{"namespace", "remove-entry", "/shore/a/store", "--rehearse"}, "", 0, "Rehearsed only"},
		{"remove a location", []string{"namespace", "remove-entry", "/shore/a/store", "--location", "oak/store"}, "", 0, "no file was touched"},
		{"remove the entry", []string{"namespace", "remove-entry", "/shore/a/store"}, "", 0, "no file was touched"},
		{"remove", []string{"namespace", "remove", "shore", "--with-entries"}, "", 0, "removed namespace"},
		{"remove the server", []string{"server", "remove", "beech"}, "", 0, "left alone"},
		{"unknown server", []string{"server", "show", "birch"}, "", 1, "no server is called"},
		{"missing argument", []string{"server", "show"}, "", 2, "NAME is missing"},
		{"one too many", []string{"site", "add", "Far", "Shore"}, "", 2, "quote names"},
		{"unknown option", []string{"site", "list", "--nonsense"}, "", 2, "nonsense"},
		{"unknown command", []string{"site", "frobnicate"}, "", 2, "frobnicate"},
		{"unknown output", []string{"site", "list", "--output", "xml"}, "", 2, "xml"},
		{"bad path", []string{"where", "garden/store"}, "", 2, "begin with a slash"},
		{"completion", []string{"completion", "bash"}, "", 0, "bspan"},
		{"sign in as a viewer", login("reader"), harness.Password + "\n", 0, "viewer"},
		{"not allowed", []string{"site", "add", "Mine"}, "", 4, "administrator"},
		{"sign out", []string{"logout"}, "", 0, "signed out"},
		{"after signing out", []string{"site", "list"}, "", 3, "not signed in"},
	} {
		out, complaint, code := s.run(t, step.input, step.args...)
		if code != step.code || !strings.Contains(out+complaint, step.says) {
			t.Errorf("%s: bspan %s: exit %d, want %d and %q:\n%s%s", step.name, strings.Join(step.args, " "), code, step.code, step.says, out, complaint)
		}
	}
	testOutputs(t, s, login(harness.Admin))
}

// testOutputs: every list is also JSON and CSV.
func testOutputs(t *testing.T, s shell, login []string) {
	if _, complaint, code := s.run(t, harness.Password+"\n", login...); code != 0 {
		t.Fatal(complaint)
	}
	for _, args := range [][]string{{"whoami"}, {"site", "list"}, {"site", "legs"}, {"server", "list"}, {"server", "show", "oak"}, {"server", "check", "oak"}, {"share", "list"}, {"share", "show", "oak/store"},
		{"namespace", "list"}, {"namespace", "tree", "garden"}, {"namespace", "tree", "--as", "ada", "garden"}, {"namespace", "lint", "garden"}, {"namespace", "check", "garden"}, {"namespace", "check", "--over-time", "/garden/store"}, {"namespace", "history", "garden"}, {"where", "/garden/store"}, {"where", "/garden"}, {"user", "list"}, {"changes"}} {
		name := strings.Join(args, " ")
		out, complaint, code := s.run(t, "", append(args, "--output", "json")...)
		var any any
		if code != 0 || json.Unmarshal([]byte(out), &any) != nil {
			t.Errorf("%s as JSON: exit %d, %s%.200s", name, code, complaint, out)
		}
		out, complaint, code = s.run(t, "", append(args, "--output", "csv")...)
		rows, err := csv.NewReader(strings.NewReader(out)).ReadAll()
		if code != 0 || err != nil || len(rows) < 2 {
			t.Errorf("%s as CSV: exit %d, %v, %s%.200s", name, code, err, complaint, out)
		}
	}
	info, err := os.Stat(filepath.Join(s.home, "bspan", "sign-in.json"))
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the sign-in file: %v, %v", info, err)
	}
}
