package attack

import (
	"os"
	"path/filepath"
	"slices"
	"testing"

	"bridgespan/client"
	"bridgespan/e2e/harness"
	"bridgespan/model"
	"bridgespan/standin/fileserver"
)

// lock makes a server let nobody but ada into the last of its shares, quiet.
func lock(t *testing.T, server *fileserver.Server) {
	t.Helper()
	f, err := os.OpenFile(filepath.Join(server.Dir, "shares.conf"), os.O_APPEND|os.O_WRONLY, 0)
	must(t, err)
	_, err = f.WriteString("\tvalid users = ada\n")
	must(t, err)
	must(t, f.Close())
	server.Halt()
	must(t, server.Restart())
}

// signInAs adds a user with a role, and signs in.
func signInAs(t *testing.T, e *harness.Estate, name string, role model.Role) *client.Client {
	t.Helper()
	_, err := e.API.AddUser(t.Context(), model.NewUser{Name: name, Password: harness.Password, Role: role})
	must(t, err)
	return e.SignIn(t, name, harness.Password)
}

// A viewer looks at a namespace of which one signpost leads to a share that refuses the
// account of the service. That is told of the signpost, and ends nothing.
func testLensOverRefusedShare(t *testing.T, e *harness.Estate) {
	lock(t, e.Oak)
	viewer := signInAs(t, e, "wren", model.Viewer)
	seen, err := viewer.Lens(t.Context(), "garden", "Lowland", "ada", "gateway")
	must(t, err)
	i := slices.IndexFunc(seen.Seen, func(s model.Seen) bool { return s.Path == "/garden/papers/quiet" })
	if i < 0 || seen.Seen[i].Closed == "" {
		t.Errorf("the signposts are shown as %+v", seen.Seen)
	}
	must(t, e.API.Ready(t.Context()))
}

// A viewer sees what folders hold, and who may do what there, only where an administrator
// allowed it: the service looks with an account that sees everything, hidden shares too.
func testViewersBrowse(t *testing.T, e *harness.Estate) {
	viewer := signInAs(t, e, "siskin", model.Viewer)
	looks := map[string]func() error{
		"browse": func() error { _, err := viewer.Browse(t.Context(), "elm/store", "", ""); return err },
		"rights": func() error { _, err := viewer.Rights(t.Context(), "elm/store"); return err },
		"as":     func() error { _, err := viewer.RightsAs(t.Context(), "elm/store", "ada"); return err },
		"compare": func() error {
			_, err := viewer.CompareRights(t.Context(), "elm/store", "elm/quiet")
			return err
		},
		"by the namespace": func() error { _, err := viewer.Browse(t.Context(), "/garden/store", "", ""); return err },
	}
	may := func(allowed bool) {
		t.Helper()
		for _, server := range []string{"elm", "oak"} {
			_, err := e.API.EditServer(t.Context(), server, model.EditServer{ViewersBrowse: &allowed})
			must(t, err)
		}
		for what, look := range looks {
			if err := look(); (err == nil) != allowed {
				t.Errorf("%s while viewers may is %v: %v", what, allowed, err)
			}
		}
	}
	may(false)
	may(true)
	may(false)
}
