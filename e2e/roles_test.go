package e2e

import (
	"encoding/json"
	"io"
	"net/http"
	"regexp"
	"strings"
	"testing"

	"bridgespan/e2e/harness"
	"bridgespan/model"
)

// operation is one call of the API as its document has it.
type operation struct {
	method, path, id string
	needs            model.Role // "" when nobody needs to be signed in
}

var neededRole = regexp.MustCompile(`Needs the role (\w+)\.`)

// operations reads the calls of the API from the document that it serves.
func operations(t *testing.T, base string) (list []operation) {
	t.Helper()
	response, err := http.Get(base + "/api/v1/openapi.json")
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	var document struct {
		Paths map[string]map[string]struct {
			OperationID string                `json:"operationId"`
			Description string                `json:"description"`
			Security    []map[string][]string `json:"security"`
		} `json:"paths"`
	}
	if err := json.NewDecoder(response.Body).Decode(&document); err != nil {
		t.Fatal(err)
	}
	for path, item := range document.Paths {
		for method, op := range item {
			o := operation{method: strings.ToUpper(method), path: regexp.MustCompile(`\{\w+\}`).ReplaceAllString(path, "1"), id: op.OperationID}
			if m := neededRole.FindStringSubmatch(op.Description); m != nil {
				o.needs = model.Role(m[1])
			}
			if (o.needs == "") != (len(op.Security) == 0) {
				t.Errorf("%s: needs %q, and its security is %v", o.id, o.needs, op.Security)
			}
			list = append(list, o)
		}
	}
	return list
}

// Every call refuses whoever lacks its role, before it looks at anything else:
// what is sent here is empty, and mostly wrong.
func testRoles(t *testing.T, e *harness.Estate) {
	tokens := map[model.Role]string{"": ""}
	for _, role := range []model.Role{model.Viewer, model.Operator} {
		if _, err := e.API.AddUser(t.Context(), model.NewUser{Name: "role." + string(role), Password: harness.Password, Role: role}); err != nil {
			t.Fatal(err)
		}
		tokens[role] = e.SignIn(t, "role."+string(role), harness.Password).Token
	}
	below := map[model.Role][]model.Role{model.Viewer: {""}, model.Operator: {"", model.Viewer}, model.Administrator: {"", model.Viewer, model.Operator}}
	refusals := 0
	for _, op := range operations(t, e.Base) {
		for _, role := range below[op.needs] {
			want := http.StatusForbidden
			if role == "" {
				want = http.StatusUnauthorized
			}
			if got := call(t, e.Base+op.path, op.method, tokens[role]); got != want {
				t.Errorf("%s %s as %q: %d, want %d", op.method, op.path, role, got, want)
			}
			refusals++
		}
	}
	if refusals < 120 {
		t.Errorf("only %d refusals were tried", refusals)
	}
}

// call sends an empty request and returns the status.
func call(t *testing.T, url, method, token string) int {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), method, url, strings.NewReader("{}"))
	if err != nil {
		t.Fatal(err)
	}
	r.Header.Set("Content-Type", "application/json")
	if token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
	}
	response, err := http.DefaultClient.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	_, _ = io.Copy(io.Discard, response.Body)
	return response.StatusCode
}
