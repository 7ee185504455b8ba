package estate_test

import (
	"errors"
	"strings"
	"testing"

	"bridgespan/core/fault"
	"bridgespan/model"
)

// A mover is beside a file server that exists, which stays as long as it is. Nothing else is beside a server.
func TestBeside(t *testing.T) {
	c := startClouded(t)
	add := func(v model.Server) error { return c.AddServer(c.ctx, v, "secret", true) }
	files := model.Server{Name: "Sedge", Site: "Here", Address: "sedge.test", Port: 445, Account: "warden"}
	mover := model.Server{Name: "edge", Site: "Here", Address: "sedge.test", Port: 8620, Certificate: strings.Repeat("ab", 32), Beside: "sedge"}
	wantField(t, "beside nothing", add(mover), "beside")
	if err := add(files); err != nil {
		t.Fatal(err)
	}
	if err := add(mover); err != nil {
		t.Fatal(err)
	}
	kept, err := c.Server(c.ctx, "edge")
	if err != nil || kept.Beside != "Sedge" {
		t.Errorf("kept is %+v, %v", kept, err)
	}
	another := mover
	another.Name, another.Address, another.Beside = "another", "other.test", "edge"
	wantField(t, "beside a mover", add(another), "beside")
	another = files
	another.Name, another.Address, another.Beside = "oak", "oak.test", "Sedge"
	wantField(t, "a file server beside another", add(another), "beside")

	sedge, err := c.Server(c.ctx, "sedge")
	if err != nil {
		t.Fatal(err)
	}
	var needed *fault.Error
	if err := c.RemoveServer(c.ctx, "sedge", sedge.Version, true); !errors.As(err, &needed) || needed.Kind != fault.Needed || !strings.Contains(err.Error(), "edge") {
		t.Errorf("the removal of the file server: %v", err)
	}
	sedge.Name = "Rush"
	if err := c.EditServer(c.ctx, "sedge", sedge, "", true); err != nil {
		t.Fatal(err)
	}
	if kept, err = c.Server(c.ctx, "edge"); err != nil || kept.Beside != "Rush" {
		t.Errorf("after another name: %+v, %v", kept, err)
	}
	kept.Beside = ""
	if err := c.EditServer(c.ctx, "edge", kept, "", true); err != nil {
		t.Fatal(err)
	}
	if sedge, err = c.Server(c.ctx, "rush"); err != nil {
		t.Fatal(err)
	}
	if err := c.RemoveServer(c.ctx, "rush", sedge.Version, false); err != nil {
		t.Errorf("the removal of a file server beside which nothing is: %v", err)
	}
}
