package e2e

import (
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"testing"

	"bridgespan/api"
	"bridgespan/model"
)

// Imports point downward, and what computes stays free of everything else.
func TestLayers(t *testing.T) {
	for _, rule := range []struct {
		packages string
		// allowed are prefixes of what may be imported beside the standard library.
		allowed []string
	}{
		{"bridgespan/core/...", []string{"bridgespan/core/", "golang.org/x/text", "github.com/cloudsoda/sddl", "github.com/zeebo/blake3", "github.com/klauspost/cpuid"}},
		{"bridgespan/model", []string{"bridgespan/model", "bridgespan/core/", "golang.org/x/text", "github.com/zeebo/blake3", "github.com/klauspost/cpuid"}},
		{"bridgespan/tree", []string{"bridgespan/tree", "bridgespan/core/", "bridgespan/guard", "golang.org/x/sync/errgroup", "golang.org/x/text", "github.com/cloudsoda/sddl", "github.com/zeebo/blake3", "github.com/klauspost/cpuid"}},
		{"bridgespan/client", []string{"bridgespan/client", "bridgespan/model", "bridgespan/core/", "golang.org/x/text", "github.com/zeebo/blake3", "github.com/klauspost/cpuid"}},
		{"bridgespan/records", []string{"bridgespan/records", "bridgespan/model", "bridgespan/core/", "bridgespan/guard", "golang.org/x/sync/errgroup", "golang.org/x/text", "github.com/zeebo/blake3", "github.com/klauspost/cpuid", "github.com/go-sql-driver/mysql", "filippo.io/edwards25519", "github.com/fxamacker/cbor", "github.com/x448/float16"}},
		{"bridgespan/records/pack", []string{"bridgespan/records/pack", "bridgespan/core/", "golang.org/x/text", "github.com/zeebo/blake3", "github.com/klauspost/cpuid", "github.com/fxamacker/cbor", "github.com/x448/float16"}},
	} {
		out, err := exec.Command("go", "list", "-deps", "-f", "{{if not .Standard}}{{.ImportPath}}{{end}}", rule.packages).Output()
		if err != nil {
			t.Fatal(err)
		}
		for _, name := range strings.Fields(string(out)) {
			if !hasPrefix(name, rule.allowed) {
				t.Errorf("%s must not depend on %s", rule.packages, name)
			}
		}
	}
	for _, name := range []string{"database/sql", "net/http", "flag", "os/exec"} {
		// What the few libraries above import is theirs.
		out, err := exec.Command("go", "list", "-f", `{{join .Imports "\n"}}`, "bridgespan/core/...").Output()
		if err != nil {
			t.Fatal(err)
		}
		for dep := range strings.FieldsSeq(string(out)) {
			if dep == name {
				t.Errorf("core depends on %s", name)
			}
		}
	}
}

// Rooms that engines share know nothing of those who use them.
func TestSharedRoomsKnowNobody(t *testing.T) {
	for room, strangers := range map[string][]string{
		"bridgespan/mover/transfer": {"bridgespan/core/replica", "bridgespan/core/verify", "bridgespan/mover/", "bridgespan/records", "bridgespan/service", "bridgespan/model"},
		"bridgespan/mover/compare":  {"bridgespan/core/replica", "bridgespan/mover/transfer", "bridgespan/mover/replication", "bridgespan/records", "bridgespan/service", "bridgespan/model"},
		"bridgespan/mover/...":      {"bridgespan/records", "bridgespan/service", "bridgespan/api", "bridgespan/gateway"},
		"bridgespan/service/work":   {"bridgespan/mover", "bridgespan/service/"},
		"bridgespan/service/jobs":   {"bridgespan/mover", "bridgespan/smbadmin"},
	} {
		out, err := exec.Command("go", "list", "-deps", "-f", "{{if not .Standard}}{{.ImportPath}}{{end}}", room).Output()
		if err != nil {
			t.Fatal(err)
		}
		for _, name := range strings.Fields(string(out)) {
			if name != room && hasPrefix(name, strangers) {
				t.Errorf("%s must not depend on %s", room, name)
			}
		}
	}
}

// Leases are taken and renewed in one room, and a tree that stands before another one lets
// package tree forward what it does not do itself.
func TestNobodyGoesAroundARoom(t *testing.T) {
	for _, rule := range []struct {
		pattern string
		rooms   []string // where it may stand
	}{
		{`db\.(Acquire|Renew|Release)\(|DB\.(Acquire|Renew|Release)\(`, []string{"records/", "service/work/"}},
		{`\.\((tree\.)?(Exchanger|Assembler|Sealer|Stager|WriteTrier|Protector|Watcher|Expecter)\)`, []string{"tree/"}},
		{`exclusive_key`, []string{"records/"}},
		{`tree\.(Stage|Assemble|Exchange|Flush)\(`, []string{"mover/transfer/", "tree/"}},
		{`tree\.Ordered\b|paths\.Pairs\(`, []string{"mover/compare/", "tree/", "service/rights/"}},
		{`verify\.Compare\(`, []string{"mover/compare/"}},
		{`smb\.Dial\(|remote\.Dial\(`, []string{"service/endpoint/", "tree/", "bench/", "demo/", "e2e/", "standin/", "cmd/bspand/"}},
		{`\*smb\.(Tree|Session)`, []string{"service/endpoint/", "tree/smb/", "smbadmin/", "bench/", "demo/", "e2e/", "standin/"}},
		{`Certificate [!=]= ""|ServerMover\b`, []string{"model/", "api/", "cmd/", "client/"}},
	} {
		search := exec.Command("grep", "-rnE", "--include=*.go", "--exclude=*_test.go", "--exclude-dir=node_modules", rule.pattern, ".")
		search.Dir = ".."
		out, _ := search.Output() // it fails when nothing matches
		for line := range strings.Lines(string(out)) {
			line = strings.TrimPrefix(line, "./")
			if !hasPrefix(line, rule.rooms) {
				t.Errorf("%s belongs to %v: %s", rule.pattern, rule.rooms, strings.TrimSpace(line))
			}
		}
		if len(out) == 0 {
			t.Errorf("nothing matches %s: the rule is worth nothing", rule.pattern)
		}
	}
}

func hasPrefix(name string, prefixes []string) bool {
	for _, prefix := range prefixes {
		if strings.HasPrefix(name, prefix) {
			return true
		}
	}
	return false
}

// Runs of every kind that is worked on can be asked for.
func TestRunKindsAreDocumented(t *testing.T) {
	field, _ := reflect.TypeFor[model.Run]().FieldByName("Kind")
	documented := strings.Split(field.Tag.Get("enum"), ",")
	registers, constant := regexp.MustCompile(`\.Register\((\w+), jobs\.Policy`), `(?m)\b%s\s*=\s*"([a-z-]+)"`
	seen := map[string]bool{}
	if err := filepath.WalkDir("../service", func(dir string, d fs.DirEntry, err error) error {
		if err != nil || !d.IsDir() {
			return err
		}
		var source strings.Builder
		files, err := filepath.Glob(dir + "/*.go")
		for _, file := range files {
			text, err := os.ReadFile(file)
			if err != nil {
				return err
			}
			source.Write(text)
		}
		for _, found := range registers.FindAllStringSubmatch(source.String(), -1) {
			kind := regexp.MustCompile(fmt.Sprintf(constant, found[1])).FindStringSubmatch(source.String())
			if kind == nil || !slices.Contains(documented, kind[1]) {
				t.Errorf("in %s runs of the kind %s are worked on (%q), which is not in the document", dir, found[1], kind)
				continue
			}
			seen[kind[1]] = true
		}
		return err
	}); err != nil {
		t.Fatal(err)
	}
	if len(seen) != len(documented) {
		t.Errorf("worked on are %v, documented are %v", seen, documented)
	}
}

// The console's types come from the document that the service makes.
func TestDocumentIsCurrent(t *testing.T) {
	made, err := api.New(api.Services{}, api.Options{Version: "v1"}).OpenAPI()
	if err != nil {
		t.Fatal(err)
	}
	kept, err := os.ReadFile("../console/openapi.json")
	if err != nil {
		t.Fatal(err)
	}
	if strings.TrimSpace(string(made)) != strings.TrimSpace(string(kept)) {
		t.Error("console/openapi.json is not what the service makes; run make generate")
	}
}

// The drawings of the house are what the code says.
func TestDrawingsAreCurrent(t *testing.T) {
	draw := exec.Command("go", "run", "./docs/drawings", "-check")
	draw.Dir = ".."
	if out, err := draw.CombinedOutput(); err != nil {
		t.Errorf("%s", out)
	}
}

// The published schema of documents is the one that the service makes.
func TestSchemaIsCurrent(t *testing.T) {
	made, err := api.NamespaceSchema()
	if err != nil {
		t.Fatal(err)
	}
	kept, err := os.ReadFile("../docs/namespace.schema.json")
	if err != nil {
		t.Fatal(err)
	}
	if strings.TrimSpace(string(made)) != strings.TrimSpace(string(kept)) {
		t.Error("docs/namespace.schema.json is not what the service makes; run make generate")
	}
}
