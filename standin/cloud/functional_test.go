package cloud_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"bridgespan/standin/cloud"
)

// functionalTests are tests for object services, from the source of the client library.
//
// They leave out features that the stand-in does not have: signatures of version 2, forms that browsers send, encryption by the service, checksums and
// tags that are kept with objects, retention of single objects, settings of buckets (policies, CORS, tags), several regions behind one address,
// archives that are listed, and extensions of one service to listings.
var functionalTests = []string{
	"testGetObjectRanges", "testPutObjectWithAutoChecksums", "testPutObjectWithVersioning", "testPutObjectWithMetadata", "testGetObjectWithRange", "testPutObjectReadAt",
	"testPutObjectStreaming", "testGetObjectSeekEnd", "testGetObjectClosedTwice", "testRemoveMultipleObjects", "testRemoveMultipleObjectsIter",
	"testFPutObjectMultipart", "testFPutObject", "testGetObjectReadSeekFunctional", "testGetObjectReadAtFunctional", "testGetObjectReadAtWhenEOFWasReached",
	"testCopyObject", "testComposeObjectErrorCases", "testCompose10KSources", "testUserMetadataCopying", "testGetObjectModified",
	"testPutObjectUploadSeekedObject", "testGetObjectContext", "testFPutObjectContext", "testFGetObjectContext", "testPutObjectContext",
	"testStorageClassMetadataPutObject", "testStorageClassInvalidMetadataPutObject", "testStorageClassMetadataCopyObject", "testPutObjectWithContentLanguage",
	"testListUnsorted", "testListObjectVersions", "testStatObjectResponseHeaders", "testStatObjectWithVersioning", "testGetObjectWithVersioning",
	"testCopyObjectWithVersioning", "testConcurrentCopyObjectWithVersioning", "testComposeObjectWithVersioning", "testRemoveObjectWithVersioning",
	"testRemoveObjectsWithVersioning", "testUnencryptedToUnencryptedCopyPart",
}

// TestFunctional runs the functional tests of the client library against the stand-in.
func TestFunctional(t *testing.T) {
	program := buildFunctionalTests(t)
	key := cloud.Key{ID: "trust-key", Secret: "a secret of the trust", Account: "trust", Rights: cloud.AllRights}
	c, err := cloud.Open(cloud.Config{Dir: t.TempDir(), Keys: []cloud.Key{key}, Regions: []cloud.Region{{Name: "us-east-1"}}})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Close() })
	server := httptest.NewServer(c.Region("us-east-1"))
	t.Cleanup(server.Close)
	cmd := exec.CommandContext(t.Context(), program, strings.TrimPrefix(server.URL, "http://"), key.ID, key.Secret)
	cmd.Dir = t.TempDir()
	cmd.Env = append(os.Environ(), "TMPDIR="+cmd.Dir)
	out, err := cmd.Output()
	if err != nil {
		t.Errorf("it ends with %v", err)
	}
	passed, began := 0, 0
	for line := range bytes.Lines(out) {
		var told struct{ Status, Name, Function, Message, Error, Began string }
		if json.Unmarshal(line, &told) != nil {
			t.Errorf("it says %.300s", line)
			continue
		}
		switch {
		case told.Began != "":
			began++
		case told.Status == "PASS":
			passed++
		case told.Status == "FAIL":
			t.Errorf("%s: %s: %s: %s", told.Name, told.Function, told.Message, told.Error)
		}
	}
	if began != len(functionalTests) || passed < len(functionalTests)-1 { // one test reports no result
		t.Errorf("%d tests ran, and %d passed", began, passed)
	}
}

// buildFunctionalTests builds a program that runs the tests. Its arguments are the address of the service, and an access key with its secret.
func buildFunctionalTests(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	command := func(in, name string, args ...string) string {
		t.Helper()
		cmd := exec.CommandContext(t.Context(), name, args...)
		cmd.Dir, cmd.Stderr = in, os.Stderr
		out, err := cmd.Output()
		if err != nil {
			t.Fatalf("%s %s: %v", name, strings.Join(args, " "), err)
		}
		return strings.TrimSpace(string(out))
	}
	read := func(name string) string {
		t.Helper()
		text, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		return string(text)
	}
	suite := read(filepath.Join(command(".", "go", "list", "-m", "-f", "{{.Dir}}", "github.com/minio/minio-go/v7"), "functional_tests.go"))
	suite = strings.Replace(strings.Replace(suite, "//go:build mint\n", "", 1), "\nfunc main() {", "\nfunc all() {", 1)
	module := filepath.Dir(command(".", "go", "env", "GOMOD"))
	var main strings.Builder
	main.WriteString("package main\n\nimport (\n\"fmt\"\n\"log/slog\"\n\"os\"\n)\n\nfunc main() {\nslog.SetDefault(slog.New(slog.NewJSONHandler(os.Stdout, nil)))\n")
	// The suite reads its settings from the environment, under names that its source says.
	names := regexp.MustCompile(`"([A-Z]+_ENDPOINT|ACCESS_KEY|SECRET_KEY|ENABLE_HTTPS|[A-Z]+_MODE|RUN_ON_FAIL)"`)
	values := map[string]string{"ENDPOINT": "os.Args[1]", "ACCESS_KEY": "os.Args[2]", "SECRET_KEY": "os.Args[3]", "HTTPS": `"0"`, "MODE": `"full"`, "FAIL": `"1"`}
	for _, m := range names.FindAllStringSubmatch(suite, -1) {
		for suffix, value := range values {
			if strings.HasSuffix(m[1], suffix) {
				fmt.Fprintf(&main, "os.Setenv(%q, %s)\n", m[1], value)
			}
		}
	}
	for _, name := range functionalTests {
		fmt.Fprintf(&main, "fmt.Println(`{\"Began\":%q}`)\n%s()\n", name, name)
	}
	main.WriteString("}\n")
	for name, text := range map[string]string{
		"suite.go": suite, "main.go": main.String(), "go.sum": read(filepath.Join(module, "go.sum")),
		"go.mod": regexp.MustCompile(`(?m)^module .*$`).ReplaceAllString(read(filepath.Join(module, "go.mod")), "module suite"),
	} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	command(dir, "go", "build", "-mod=mod", "-o", "suite", ".")
	return filepath.Join(dir, "suite")
}
