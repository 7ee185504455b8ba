// Package mapping tells people's systems where the drives and mount points of
// a namespace lead, and what changed since that was last handed out.
package mapping

import (
	"context"
	"fmt"
	"net"
	"slices"
	"strconv"
	"sync"
	"time"

	"bridgespan/core/acl"
	"bridgespan/core/fault"
	"bridgespan/core/mapping"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/access"
	"bridgespan/service/naming"
	"bridgespan/service/rights"
)

// Service is the use case.
type Service struct {
	db      *records.DB
	naming  *naming.Service
	rights  *rights.Service
	changed func()
}

// New makes the service. changed is called after every change.
func New(db *records.DB, n *naming.Service, r *rights.Service, changed func()) *Service {
	return &Service{db, n, r, changed}
}

// mostSignposts bounds for how many signposts mappings are made at once.
const mostSignposts = 2000

// Make makes the mappings of a namespace for an account at a site, and tells
// what changed since they were last handed out. With handOut it keeps them as
// handed out, and the letters that it gave away for the first time.
func (s *Service) Make(ctx context.Context, name string, asked model.AskMappings, handOut bool) (model.Mappings, error) {
	m := model.Mappings{Namespace: name, AskMappings: asked, Mappings: []mapping.Mapping{}, Closed: []string{}}
	if asked.For == "" {
		return m, fault.Field("for", "name a person or a group", "mappings are made for somebody")
	}
	if !slices.Contains(mapping.Formats, asked.Format) {
		return m, fault.Field("format", "use batch, powershell, autofs, fstab or csv", "%q is not a format", asked.Format)
	}
	entries, err := s.naming.Entries(ctx, name, records.All)
	if err != nil {
		return m, err
	}
	entries = slices.DeleteFunc(entries, func(e namespace.Entry) bool { return e.Kind != namespace.Signpost })
	if len(entries) > mostSignposts {
		return m, fault.Field("namespace", "make another namespace for what is mapped", "%s has %d signposts, at most %d can be mapped", name, len(entries), mostSignposts)
	}
	led, err := s.lead(ctx, name, entries, asked)
	if err != nil {
		return m, err
	}
	var open []namespace.Entry
	for i, l := range led {
		if l.closed != "" {
			m.Closed = append(m.Closed, l.closed)
			continue
		}
		open = append(open, entries[i])
		m.Mappings = append(m.Mappings, l.Mapping)
	}
	fresh := assign(entries, open, m.Mappings)
	last, err := s.db.LastHandout(ctx, name, asked.For, asked.From)
	if err != nil {
		return m, err
	}
	if last != nil {
		m.Last = &last.At
	}
	m.Changes = changes(last, m.Mappings)
	m.Text = mapping.Write(asked.Format, fmt.Sprintf("Drives of /%s for %s%s, made by Bridge Span on %s", name, asked.For, at(asked.From), time.Now().UTC().Format("2006-01-02 15:04 UTC")), m.Mappings)
	if !handOut {
		return m, nil
	}
	defer s.changed()
	return m, s.db.Change(ctx, func(tx *records.Tx) error { return keep(ctx, tx, m, fresh) })
}

func at(site string) string {
	if site == "" {
		return ""
	}
	return " at " + site
}

// lead is where one signpost leads somebody, or why it is closed to them.
type lead struct {
	mapping.Mapping
	closed string
}

// lead finds out where signposts lead somebody, several at a time.
func (s *Service) lead(ctx context.Context, name string, entries []namespace.Entry, asked model.AskMappings) ([]lead, error) {
	led := make([]lead, len(entries))
	errs := make([]error, len(entries))
	var group sync.WaitGroup
	limit := make(chan struct{}, 4)
	for i, e := range entries {
		group.Go(func() {
			limit <- struct{}{}
			defer func() { <-limit }()
			led[i], errs[i] = s.leadOne(ctx, "/"+name+"/"+e.Path, asked)
		})
	}
	group.Wait()
	for _, err := range errs {
		if err != nil {
			return nil, err
		}
	}
	return led, nil
}

func (s *Service) leadOne(ctx context.Context, full string, asked model.AskMappings) (lead, error) {
	d, err := s.naming.Where(ctx, full, namespace.Traveller{Site: asked.From, Person: asked.For})
	if err != nil {
		return lead{}, err
	}
	i := slices.IndexFunc(d.Directions, func(d namespace.Direction) bool { return d.Usable })
	if i < 0 {
		return lead{closed: full + ": it leads nowhere now"}, nil
	}
	first := d.Directions[i]
	may, err := s.rights.As(ctx, first.Target().String(), asked.For)
	switch kind := fault.KindOf(err); {
	case kind == fault.Invalid: // the account is not known there
		return lead{closed: fmt.Sprintf("%s: %s does not know %s", full, first.Server, asked.For)}, nil
	case err != nil:
		return lead{}, err
	case may.Level == acl.None:
		return lead{closed: fmt.Sprintf("%s: %s may not open it", full, asked.For)}, nil
	}
	host, port, err := net.SplitHostPort(first.Listens.HostPort)
	if err != nil {
		return lead{}, err
	}
	m := mapping.Mapping{Path: full, Host: host, Share: first.Share, Sub: first.Sub}
	if port != "445" {
		if m.Port, err = strconv.Atoi(port); err != nil {
			return lead{}, err
		}
	}
	return lead{Mapping: m}, nil
}

// assign puts in the letters, and returns those that were not given away before,
// by the number of the entry.
func assign(all, open []namespace.Entry, list []mapping.Mapping) map[int64]string {
	given := map[string]string{}
	for _, e := range all {
		if e.Letter != "" {
			given[namespace.Key(e.Path)] = e.Letter
		}
	}
	var keys []string
	for _, e := range open {
		keys = append(keys, namespace.Key(e.Path))
	}
	letters := mapping.Assign(keys, given)
	fresh := map[int64]string{}
	for i, e := range open {
		list[i].Letter = letters[keys[i]]
		if e.Letter == "" && list[i].Letter != "" {
			fresh[e.ID] = list[i].Letter
		}
	}
	return fresh
}

func changes(last *records.Handout, now []mapping.Mapping) []string {
	if last == nil {
		return []string{}
	}
	return mapping.Changes(last.Mappings, now)
}

// keep keeps mappings as handed out.
func keep(ctx context.Context, tx *records.Tx, m model.Mappings, fresh map[int64]string) error {
	if err := tx.LockNamespace(ctx, m.Namespace); err != nil {
		return err
	}
	for id, letter := range fresh {
		if err := tx.GiveLetter(ctx, m.Namespace, id, letter); err != nil {
			return err
		}
	}
	c := access.Change(ctx, "mappings.hand-out", "/"+m.Namespace+"/", nil, map[string]any{"for": m.For, "from": m.From, "format": m.Format, "mappings": len(m.Mappings)})
	if err := tx.AddHandout(ctx, m.Namespace, records.Handout{For: m.For, From: m.From, At: c.At, Who: c.Who, Mappings: m.Mappings}); err != nil {
		return err
	}
	return tx.Record(ctx, c, "namespace")
}

// Handouts lists what was handed out last, to whom, and what changed since.
func (s *Service) Handouts(ctx context.Context, name string) ([]model.Handout, error) {
	if _, err := s.naming.Namespace(ctx, name); err != nil {
		return nil, err
	}
	last, err := s.db.LastHandouts(ctx, name)
	if err != nil {
		return nil, err
	}
	list := []model.Handout{}
	for _, h := range last {
		shown := model.Handout{For: h.For, From: h.From, At: h.At, Who: h.Who, Changes: []string{}}
		now, err := s.Make(ctx, name, model.AskMappings{For: h.For, From: h.From, Format: mapping.CSV}, false)
		if err != nil {
			shown.Trouble = err.Error()
		} else {
			shown.Changes = now.Changes
		}
		list = append(list, shown)
	}
	return list, nil
}
