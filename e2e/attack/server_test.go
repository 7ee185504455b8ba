package attack

import (
	"encoding/binary"
	"slices"
	"strings"
	"sync/atomic"
	"testing"

	"bridgespan/client"
	"bridgespan/core/finding"
	"bridgespan/e2e/harness"
	"bridgespan/model"
	"bridgespan/standin/standintest"
	"bridgespan/standin/tamper"
)

// hostile stands before a file server, and changes its answers while it is told to.
type hostile struct {
	*tamper.Proxy
	change atomic.Pointer[func([]byte) []byte]
}

func standBefore(t *testing.T, server string) *hostile {
	t.Helper()
	h := &hostile{}
	var err error
	h.Proxy, err = tamper.Start(server, nil, func(m []byte) []byte {
		if change := h.change.Load(); change != nil {
			return (*change)(m)
		}
		return m
	})
	must(t, err)
	t.Cleanup(h.Stop)
	return h
}

// answer has answers changed from now on; nil leaves them as they are.
func (h *hostile) answer(change func([]byte) []byte) {
	if change == nil {
		h.change.Store(nil)
		return
	}
	h.change.Store(&change)
}

func (h *hostile) newServer(t *testing.T, name string, unsigned bool) model.NewServer {
	host, port := harness.SplitHostPort(t, h.Address())
	return model.NewServer{Name: name, Site: "Upland", Address: host, Port: port, Account: "warden", Password: standintest.Password("warden"), Unsigned: unsigned}
}

// boasts says that far more was written than was sent.
var boasts = tamper.Answers(tamper.Write, func(body []byte) { binary.LittleEndian.PutUint32(body[4:], 0x7fffffff) })

func line(t *testing.T, check model.Check, name string) finding.Finding {
	t.Helper()
	i := slices.IndexFunc(check.Lines, func(l finding.Finding) bool { return l.Code == name })
	if i < 0 {
		t.Fatalf("the check says nothing of %s: %+v", name, check.Lines)
	}
	return check.Lines[i]
}

// A server whose answers make no sense ends nothing. It is left alone, which is said, and
// used again after a check that comes out well.
func testHostileServer(t *testing.T, e *harness.Estate) {
	h := standBefore(t, e.Elm.HostPort())
	_, err := e.API.AddServer(t.Context(), h.newServer(t, "fen", true))
	must(t, err)
	check, err := e.API.CheckServer(t.Context(), "fen")
	must(t, err)
	if l := line(t, check, "signing"); l.Severity != finding.Warn || !strings.Contains(l.Found, "does not ask") {
		t.Errorf("of messages that may pass unsigned the check says %+v", l)
	}

	h.answer(boasts)
	check, err = e.API.CheckServer(t.Context(), "fen")
	must(t, err)
	if l := line(t, check, "answers"); l.Severity != finding.Fail {
		t.Errorf("the check says %+v", l)
	}
	h.answer(nil)
	v, err := e.API.Server(t.Context(), "fen")
	must(t, err)
	if v.Untrusted == nil || v.Reachable == nil || *v.Reachable || !strings.Contains(v.Trouble, "untrusted answers") {
		t.Errorf("the server is %+v", v)
	}
	if _, err := e.API.ServerUse(t.Context(), "fen"); err == nil || !strings.Contains(err.Error(), "cannot be trusted") {
		t.Errorf("who uses it, while it is left alone: %v", err)
	}
	must(t, e.API.Ready(t.Context()))

	check, err = e.API.CheckServer(t.Context(), "fen")
	must(t, err)
	if slices.ContainsFunc(check.Lines, func(l finding.Finding) bool { return l.Code == "answers" }) {
		t.Errorf("after a good check: %+v", check.Lines)
	}
	if v, err = e.API.Server(t.Context(), "fen"); err != nil || v.Untrusted != nil || !*v.Reachable {
		t.Errorf("after a good check it is %+v, %v", v, err)
	}
	requireSigning(t, e.API, "fen")
	must(t, e.API.RemoveServer(t.Context(), "fen", false))
}

// requireSigning takes back that messages may pass unsigned, and finds both in the record
// of changes.
func requireSigning(t *testing.T, api *client.Client, server string) {
	t.Helper()
	signed := false
	v, err := api.EditServer(t.Context(), server, model.EditServer{Unsigned: &signed})
	must(t, err)
	check, err := api.CheckServer(t.Context(), server)
	must(t, err)
	if l := line(t, check, "signing"); v.Unsigned || strings.Contains(l.Found, "does not ask") {
		t.Errorf("the server is %+v, and the check says %+v", v, l)
	}
}

// Who is between a server that we sign to and us can end a conversation, not change it.
func testTamperedMessages(t *testing.T, e *harness.Estate) {
	h := standBefore(t, e.Elm.HostPort())
	h.answer(boasts)
	if _, err := e.API.AddServer(t.Context(), h.newServer(t, "mere", false)); err == nil {
		t.Error("a server was added whose answers were changed on their way")
	}
	host, port := harness.SplitHostPort(t, h.Address())
	unsigned := true
	if _, err := e.API.EditServer(t.Context(), "elm", model.EditServer{Address: &host, Port: &port, Unsigned: &unsigned, Password: standintest.Password("warden")}); err == nil {
		t.Error("a server was changed to an address where nothing can be trusted")
	}
	if v, err := e.API.Server(t.Context(), "elm"); err != nil || v.Untrusted != nil {
		t.Errorf("what answers elsewhere made elm itself untrusted: %+v, %v", v, err)
	}
	h.answer(tamper.Answers(tamper.SessionSetup, func(body []byte) { body[2] |= 1 }))
	if _, err := e.API.AddServer(t.Context(), h.newServer(t, "mere", false)); err == nil || !strings.Contains(err.Error(), "guest") {
		t.Errorf("a session of a guest: %v", err)
	}
	must(t, e.API.Ready(t.Context()))
}
