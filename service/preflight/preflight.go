// Package preflight checks what could stand in the way before anything is done. Each check is a
// function of its own and returns a finding, with what it means and what to do: a plan is a list
// of them, whatever it plans.
package preflight

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"time"

	"github.com/dustin/go-humanize/english"

	"bridgespan/core/acl"
	"bridgespan/core/fault"
	"bridgespan/core/finding"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/service/accounts"
	"bridgespan/service/estate"
	"bridgespan/tree"
)

// Place is a folder of a server that something is to be done with.
type Place struct {
	Name   string // as findings call it
	Target namespace.Target
	Server model.Server
	Reach  *estate.Reach // nil for checks that ask nothing of the server
}

// Words says an error as people read it: the problem, then the remedy.
func Words(err error) string {
	if errors.Is(err, tree.ErrInUse) {
		return "in use: opened exclusively by somebody"
	}
	if errors.Is(err, tree.ErrKeepsOut) {
		return "its permissions would not let the account that brings it move or remove it there: let that account do so, through the share too, or leave it out"
	}
	var f *fault.Error
	if errors.As(err, &f) {
		if f.Remedy != "" {
			return f.Problem + ": " + f.Remedy
		}
		return f.Problem
	}
	var p *fs.PathError
	if errors.As(err, &p) {
		return p.Err.Error()
	}
	return err.Error()
}

// Write checks that we may write in a folder of a tree, without writing.
func Write(ctx context.Context, p Place, t tree.Tree, folder string) finding.Finding {
	err := estate.MayWrite(ctx, t, folder)
	if err == nil {
		return finding.New(finding.Pass, "rights", "", fmt.Sprintf("%s: %s answers, and lets us write", p.Name, p.Target), "", "")
	}
	if p.Server.Can(model.HoldsBuckets) {
		return finding.New(finding.Fail, "rights", "", fmt.Sprintf("%s: the access key %s may not write in %s: %s", p.Name, p.Server.Account, p.Target, Words(err)), "nothing can be replicated to it", "grant the access key the rights to list, read, write and delete there")
	}
	if !p.Server.Can(model.HasAccounts) {
		return finding.New(finding.Fail, "rights", "", fmt.Sprintf("%s: the mover may not write in %s: %s", p.Name, p.Target, Words(err)), "nothing can be carried there", "let it run as somebody who may do everything there")
	}
	return finding.New(finding.Fail, "rights", "", fmt.Sprintf("%s: the account %s may not write in %s: %s", p.Name, p.Server.Account, p.Target, Words(err)), "nothing can be carried there", "give the account full rights there").
		With(finding.To(finding.Grant, p.Target.String(), p.Server.Account))
}

// Remove checks that our account may remove what others own in a folder. ok is false when that
// cannot be found out, or when nothing is to be said.
func Remove(ctx context.Context, people *accounts.Service, p Place, t tree.Tree, folder string) (f finding.Finding, ok bool) {
	admin := p.Reach.Admin()
	if admin == nil {
		return f, false
	}
	at, err := people.At(ctx, p.Server, admin)
	if err != nil {
		return f, false
	}
	defer at.Close()
	_, sid, err := people.Find(ctx, at, "account", p.Server.Account)
	if err != nil {
		return f, false
	}
	token, err := people.TokenFor(ctx, at, sid)
	if err != nil || token.Missing != "" {
		return f, false
	}
	share, err := admin.Share(ctx, p.Target.Share)
	if err != nil || !share.Known {
		return f, false
	}
	d, err := t.Descriptor(ctx, folder)
	if err != nil {
		return f, false
	}
	o := acl.Object{Permissions: d.Parts()}
	if !share.Permissions.IsZero() {
		through := share.Permissions.Parts()
		o.Share = &through
	}
	return removes(o.Explain(token.Token), p)
}

// removes judges whether our account may remove whatever is in a folder; ok is false when it may.
func removes(d acl.Decision, p Place) (f finding.Finding, ok bool) {
	if d.Granted&acl.DeleteChild != 0 {
		return f, false
	}
	where, remedy, does := p.Target.String(), "give it full rights there", finding.To(finding.Grant, p.Target.String(), p.Server.Account)
	if d.File&acl.DeleteChild != 0 {
		where, remedy, does = "through the share "+p.Target.Share, "let it through the share with full control, beside all whom it lets through now", finding.To(finding.EditShare, p.Target.Server, p.Target.Share)
	}
	return finding.New(finding.Warn, "rights", "", fmt.Sprintf("%s: %s may not remove %s what others own", p.Name, p.Server.Account, where),
		"files whose permissions do not name it cannot be brought there, nor replaced", remedy).With(does), true
}

// Clocks decide conflicts: how far they may be apart.
const clockApart = 2 * time.Second

// Clock checks the clock of a server against ours.
func Clock(ctx context.Context, p Place) finding.Finding {
	apart, err := p.Reach.Clock(ctx)
	if err != nil {
		return finding.New(finding.Warn, "clock", "", fmt.Sprintf("%s: its clock cannot be read: %s", p.Name, Words(err)), "the later change wins a conflict, by the servers' clocks", "check the server").
			With(finding.To(finding.CheckServer, p.Server.Name))
	}
	return clock(p, apart)
}

func clock(p Place, apart time.Duration) finding.Finding {
	if apart.Abs() > clockApart {
		return finding.New(finding.Warn, "clock", "", fmt.Sprintf("%s: its clock is %s off", p.Name, apart.Round(time.Second)), "the later change wins a conflict, and the wrong one may look later", "set its clock by a time server")
	}
	return finding.New(finding.Pass, "clock", "", fmt.Sprintf("%s: its clock is %s off", p.Name, apart.Abs().Round(time.Millisecond)), "", "")
}

// OpenFiles counts the files that people have open for changing at a server; ok is false when none
// are, or the server does not tell.
func OpenFiles(ctx context.Context, p Place) (f finding.Finding, ok bool) {
	admin := p.Reach.Admin()
	if admin == nil {
		return f, false
	}
	files, err := admin.OpenFiles(ctx)
	if err != nil { // who may administer shares may still not see them
		return f, false
	}
	n := 0
	for _, file := range files {
		if file.Write {
			n++
		}
	}
	if n == 0 {
		return f, false
	}
	return finding.New(finding.Warn, "open-files", "", fmt.Sprintf("%s: %s open for changing now", p.Server.Name, english.Plural(n, "file is", "files are")), "files that are held are carried when they are let go", "nothing has to be done"), true
}
