package client

import (
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"bridgespan/model"
)

// The making of a set is followed until it has ended, each step told; a set that
// was not made is an error that says why.
func TestCreateReplicaSet(t *testing.T) {
	for _, end := range []string{"done", "failed"} {
		asked := 0
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", "application/json")
			state := "running"
			switch {
			case r.Method == http.MethodPost:
				state = "waiting"
			case strings.HasSuffix(r.URL.Path, "/replica-sets/beds"):
				_, _ = w.Write([]byte(`{"name":"beds","state":"filling"}`))
				return
			default:
				if asked++; asked == 2 {
					state = end
				}
			}
			_, _ = w.Write([]byte(`{"run":{"id":7,"state":"` + state + `","trouble":"the folder is full"},"set":"beds","steps":[]}`))
		}))
		var told []model.RunState
		set, err := (&Client{Base: server.URL}).CreateReplicaSet(t.Context(), model.NewReplicaSet{Name: "beds"}, func(c model.ReplicaCreation) { told = append(told, c.Run.State) })
		server.Close()
		if len(told) != 3 || string(told[2]) != end {
			t.Errorf("told were %v", told)
		}
		if end == "done" && (err != nil || set.Name != "beds") {
			t.Errorf("made is %+v, %v", set, err)
		}
		if end == "failed" && (err == nil || !strings.Contains(err.Error(), "the folder is full")) {
			t.Errorf("the error is %v", err)
		}
	}
}
