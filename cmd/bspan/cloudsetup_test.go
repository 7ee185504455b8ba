package main

import (
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"bridgespan/tree/bucket/seal"
)

// rosesSetup is a set-up whose bucket is still to be created.
const rosesSetup = `{"name":"roses","account":"haar","bucket":"roses","edges":[{"server":"sedge","share":"beds","policy":{"fill":"names","freePercent":20}},{"server":"oak","share":"a","seed":true},{"server":"oak","share":"b"}],
"steps":[{"step":"account","state":"passed","checks":[{"severity":"pass","code":"account","subject":"haar","found":"access key accepted"},{"severity":"warn","code":"prices","subject":"haar","found":"Prices are unknown","remedy":"enter the prices of the account","action":{"do":"edit-server","args":["haar"]}}]},
{"step":"bucket","state":"open","checks":[{"severity":"warn","code":"name","subject":"roses","found":"the name is free","remedy":"create the bucket in coast-1","action":{"do":"create-bucket","args":["haar","roses"]}}]},{"step":"movers","state":"locked","checks":[]}],
"next":"bucket","changed":"2026-11-01T10:00:00Z","by":"ivy","version":4}`

// keptFolder is a sealed folder, for two recovery keys.
const keptFolder = `{"server":"haar","bucket":"roses","folder":"kept/by us","names":true,"recoveryKeys":["age1firstrecoverykey","age1secondrecoverykey"],"recipient":"age1folder","set":"scans","created":"2026-11-01T10:00:00Z","by":"ivy","version":3}`

// startSetups is a service with a set-up and movers.
func startSetups(t *testing.T) *service {
	s := startService(t)
	for call, answer := range map[string]string{
		"GET /cloud-setups": `{"items":[` + rosesSetup + `]}`, "GET /cloud-setups/roses": rosesSetup, "POST /cloud-setups": rosesSetup, "PATCH /cloud-setups/roses": rosesSetup, "POST /cloud-setups/roses/check": rosesSetup,
		"POST /cloud-setups/roses/plan": bedsPlan, "POST /cloud-setups/roses/start": bedsMade,
		"POST /servers/haar/event-token": `{"server":"haar","path":"/api/v1/bucket-events","token":"shown once"}`,
		"GET /movers":                    `{"items":[{"server":"reed","site":"Upland","version":"1","state":"outdated","edges":["scans"]},{"server":"rush","site":"Upland","version":"1","state":"outdated","edges":[],"unable":true,"problem":"its folder cannot be written"},{"server":"sedge","site":"Upland","version":"2","state":"current","edges":[]}]}`,
		"POST /mover-updates":            `{"run":{"id":5,"kind":"update-movers","subject":"movers","state":"done","who":"ivy","created":"2026-11-01T10:00:00Z","fraction":1},"movers":[]}`,
		"GET /mover-updates/5":           `{"run":{"id":5,"kind":"update-movers","subject":"movers","state":"done","who":"ivy","created":"2026-11-01T10:00:00Z","fraction":1},"movers":[{"server":"reed","from":"1","state":"updated","tookMs":1234},{"server":"rush","from":"1","state":"skipped","problem":"the window ended"}]}`,
		"GET /sealed-folders":            `{"items":[` + keptFolder + `]}`, "GET /sealed-folders/age1folder": keptFolder, "PATCH /sealed-folders/age1folder": keptFolder, "POST /sealed-folders": keptFolder,
		"POST /recovery-keys":     `{"public":"age1public","private":"the private key\n"}`,
		"POST /mover-update-jobs": `{"id":3,"kind":"update-movers","subject":"movers","rule":"sun 02:30","enabled":true,"next":"2026-11-08T02:30:00Z"}`,
		"GET /jobs":               `{"items":[{"id":3,"kind":"update-movers","subject":"movers","rule":"sun 02:30","enabled":false,"next":"2026-11-08T02:30:00Z"},{"id":4,"kind":"probe","subject":"beds","rule":"daily 04:00","enabled":true,"next":"2026-11-08T02:30:00Z"}]}`,
	} {
		s.answers[call] = answer
	}
	return s
}

// wants runs a command, and compares the first change that it asks for, its output and its exit code.
func (s *service) wants(t *testing.T, args []string, sent, says string, code int) {
	t.Helper()
	out, got := s.bspan(t, args...)
	first := ""
	if len(s.sent) > 0 {
		first = strings.TrimSuffix(s.sent[0], " null")
	}
	if got != code || !strings.Contains(out, says) || first != sent {
		t.Errorf("%q: exit %d, want %d; sent %s, want %s; wants %q:\n%s", args, got, code, first, sent, says, out)
	}
}

// The commands of set-ups and of movers ask the service for what they say they do: sent is the first change that they ask for.
func TestSetupCommands(t *testing.T) {
	t.Setenv("BSPAN_TOKEN", "token")
	const edges = `{"server":"oak","share":"a","seed":true},{"server":"oak","share":"b"}`
	for _, c := range []struct {
		args, sent, says string
		code             int
	}{
		{"cloud setup list", "", "roses  bucket     open    haar     roses   3", 0},
		{"cloud setup show roses", "", "create the bucket in coast-1: bspan share create haar roses", 0},
		{"cloud setup add roses --account haar --bucket roses/red --quota 2TiB --account-map trees --leave-out *.tmp", `POST /cloud-setups {"name":"roses","account":"haar","bucket":"roses","folder":"red","quota":2199023255552,"filter":{"leaveOut":["*.tmp"]},"permissions":"map","accountMap":"trees"}`, "3. movers   locked", 0},
		{"cloud setup edit roses --removal-limit 0 --calendar full", `PATCH /cloud-setups/roses {"calendar":"full","removalLimit":0}`, "WARN haar: Prices are unknown.", 0},
		{"cloud setup edit roses --quota much", "", "is no size", 2},
		{"cloud setup edge --free 30 --never *.db roses sedge", `PATCH /cloud-setups/roses {"edges":[{"server":"sedge","share":"beds","policy":{"fill":"names","freePercent":30,"never":["*.db"]}},` + edges + `]}`, "roses", 0},
		{"cloud setup edge --seed --intake 2GiB roses sedge/trays/old", `PATCH /cloud-setups/roses {"edges":[{"server":"sedge","share":"trays","sub":"old","seed":true,"intakeQuota":2147483648,"policy":{"fill":"names","freePercent":20}},{"server":"oak","share":"a"},{"server":"oak","share":"b"}]}`, "roses", 0},
		{"cloud setup edge --system-volume roses elm", `PATCH /cloud-setups/roses {"edges":[{"server":"sedge","share":"beds","policy":{"fill":"names","freePercent":20}},` + edges + `,{"server":"elm","systemVolume":true}]}`, "roses", 0},
		{"cloud setup edge --another roses sedge/more", `PATCH /cloud-setups/roses {"edges":[{"server":"sedge","share":"beds","policy":{"fill":"names","freePercent":20}},` + edges + `,{"server":"sedge","share":"more"}]}`, "roses", 0},
		{"cloud setup edge --remove roses sedge", `PATCH /cloud-setups/roses {"edges":[` + edges + `]}`, "roses", 0},
		{"cloud setup edge --remove roses elm", "", "is no edge of the set-up", 2},
		{"cloud setup edge roses oak", "", "has several edges", 2},
		{"cloud setup check roses", "POST /cloud-setups/roses/check", "haar: prices", 0},
		{"cloud setup plan roses", "POST /cloud-setups/roses/plan", "Making it will:", 0},
		{"cloud setup start roses", "POST /cloud-setups/roses/start", "beds is created with", 0},
		{"cloud setup start --no-wait roses", "POST /cloud-setups/roses/start", "create-set", 0},
		{"cloud setup remove roses", "DELETE /cloud-setups/roses", "discarded", 0},
		{"mover list", "", "Job 3 updates outdated movers sun 02:30, disabled.", 0},
		{"mover list", "", "its folder cannot be written", 0},
		{"mover update --rehearse", "", "1 mover would be updated", 0},
		{"mover update --rehearse sedge", "", "No mover would be updated.", 0},
		{"mover update reed rush", `POST /mover-updates {"servers":["reed","rush"]}`, "reed    1     updated  1.2s", 0},
		{"mover update --again sun --for 90m", `POST /mover-update-jobs {"forMin":90,"rule":"sun"}`, "job 3 updates movers sun 02:30", 0},
		{"mover updated 5", "", "the window ended", 0},
		{"server events haar", "POST /servers/haar/event-token", "/api/v1/bucket-events", 0},
		{"cloud setup edit --seal names --recovery-key age1a --recovery-key age1b roses", `PATCH /cloud-setups/roses {"sealing":{"what":"names","recoveryKeys":["age1a","age1b"]}}`, "roses", 0},
		{"cloud setup edit --seal nothing roses", `PATCH /cloud-setups/roses {"sealing":{"what":"nothing"}}`, "roses", 0},
		{"cloud setup edit --seal all roses", "", "is not nothing, contents or names", 2},
		{"cloud key list", "", "haar/roses/kept/by us  contents and names  scans  age1firstrecov…, age1secondreco…", 0},
		{"cloud key recovery --recovery-key age1new haar/roses/kept/by", "", "haar/roses/kept/by is not a sealed folder", 2},
		{"cloud key remove haar", "", "does not name a share", 2},
		{"cloud key import --recovery-key age1a haar/roses", "", "key-file", 2},
		{"cloud key open --recovery-file none copy", "", "COPY TO", 2},
	} {
		t.Run(c.args, func(t *testing.T) {
			startSetups(t).wants(t, strings.Fields(c.args), c.sent, c.says, c.code)
		})
	}
}

// Keys are read from files and written to new ones alone; what is sealed is found by its place.
func TestKeyCommands(t *testing.T) {
	t.Setenv("BSPAN_TOKEN", "token")
	dir := t.TempDir()
	file, there := filepath.Join(dir, "recovery.txt"), filepath.Join(dir, "there")
	if err := os.WriteFile(there, []byte("a key"), 0o600); err != nil {
		t.Fatal(err)
	}
	key, err1 := seal.NewKey()
	public, private, err2 := seal.NewRecoveryKey()
	keys, err3 := seal.ParseRecoveryKeys([]string{public})
	if err := errors.Join(err1, err2, err3); err != nil {
		t.Fatal(err)
	}
	sealed, err := key.ForRecovery(keys)
	sealedFile, recovery := filepath.Join(dir, "key.age"), filepath.Join(dir, "opens.txt")
	if err := errors.Join(err, os.WriteFile(sealedFile, sealed, 0o600), os.WriteFile(recovery, []byte(private), 0o600)); err != nil {
		t.Fatal(err)
	}
	const place = "haar/roses/kept/by us"
	for _, c := range []struct {
		args       []string
		sent, says string
		code       int
	}{
		{[]string{"make", file}, "POST /recovery-keys", "--recovery-key age1public", 0},
		{[]string{"make", there}, "", "give the name of a new file", 1},
		{[]string{"recovery", "--recovery-key", "age1new", place}, `PATCH /sealed-folders/age1folder {"recoveryKeys":["age1new"]}`, "the key of haar/roses/kept/by us can be opened with 2 recovery keys", 0},
		{[]string{"import", "--key-file", there, "--names", "--recovery-key", "age1a", place}, `POST /sealed-folders {"server":"haar","bucket":"roses","folder":"kept/by us","names":true,"recoveryKeys":["age1a"],"key":"a key"}`, "imported the key", 0},
		{[]string{"import", "--key-file", sealedFile, "--recovery-file", recovery, "--recovery-key", "age1a", place}, `POST /sealed-folders {"server":"haar","bucket":"roses","folder":"kept/by us","recoveryKeys":["age1a"],"key":"` + key.Identity() + `"}`, "imported the key", 0},
		{[]string{"import", "--key-file", sealedFile, "--recovery-file", there, place}, "", "open " + sealedFile + " with " + there, 1},
		{[]string{"import", "--key-file", filepath.Join(dir, "none"), place}, "", "no such file", 1},
		{[]string{"remove", place}, "DELETE /sealed-folders/age1folder", "removed the key", 0},
	} {
		startSetups(t).wants(t, append([]string{"cloud", "key"}, c.args...), c.sent, c.says, c.code)
	}
	info, err := os.Stat(file)
	if text, bad := os.ReadFile(file); err != nil || bad != nil || string(text) != "the private key\n" || info.Mode().Perm() != 0o600 {
		t.Errorf("the private key is %q, %v, %v", text, info.Mode(), err)
	}
}

// What set-ups and movers show is shown as JSON, too.
func TestSetupCommandsAsJSON(t *testing.T) {
	t.Setenv("BSPAN_TOKEN", "token")
	for _, args := range []string{"cloud setup list", "cloud setup show roses", "cloud setup check roses", "cloud setup edit --removal-limit 0 roses", "cloud setup plan roses", "cloud setup start --no-wait roses", "mover list", "mover update --rehearse", "mover update --rehearse sedge", "mover update reed", "mover updated 5", "server events haar", "cloud key list"} {
		s := startSetups(t)
		out, code := s.bspan(t, append([]string{"--output", "json"}, strings.Fields(args)...)...)
		var value any
		if err := json.Unmarshal([]byte(out), &value); err != nil || code != 0 || value == nil {
			t.Errorf("bspan %s: exit %d, %v: %s", args, code, err, out)
		}
	}
}
