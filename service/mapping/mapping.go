// Package mapping tells people's systems where the drives and mount points of
// a namespace lead, and what changed since that was last handed out.
package mapping

import (
	"context"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"

	"bridgespan/core/fault"
	"bridgespan/core/mapping"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/access"
	"bridgespan/service/lens"
	"bridgespan/service/naming"
)

// Service is the use case.
type Service struct {
	db      *records.DB
	naming  *naming.Service
	lens    *lens.Service
	fronts  Fronts
	changed func()
}

// Fronts finds the front of a namespace at a site; nil when it has none there.
type Fronts interface {
	At(ctx context.Context, name, inside, site string) (*model.Front, error)
}

// New makes the service. changed is called after every change.
func New(db *records.DB, n *naming.Service, l *lens.Service, f Fronts, changed func()) *Service {
	return &Service{db, n, l, f, changed}
}

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
	through, err := s.fronts.At(ctx, name, "", asked.From)
	if err != nil {
		return m, err
	}
	seen, err := s.lens.Look(ctx, name, asked.From, asked.For, through)
	if err != nil {
		return m, err
	}
	if through != nil {
		m.Through = through.UNC()
	}
	given := map[string]string{}
	var open []model.Seen
	for _, one := range seen {
		if one.Letter != "" {
			given[one.Path] = one.Letter
		}
		if one.Closed != "" {
			m.Closed = append(m.Closed, one.Path+": "+one.Closed)
			continue
		}
		to, err := leads(one)
		if err != nil {
			return m, err
		}
		if through != nil {
			to = throughFront(to, *through)
		}
		open = append(open, one)
		m.Mappings = append(m.Mappings, to)
	}
	fresh := assign(given, open, m.Mappings)
	last, err := s.db.LastHandout(ctx, name, asked.For, asked.From)
	if err != nil {
		return m, err
	}
	var before []mapping.Mapping
	if last != nil {
		m.Last, before = &last.At, last.Mappings
	}
	m.Changes = changes(last, m.Mappings)
	m.Text = mapping.Write(asked.Format, fmt.Sprintf("Drives of /%s for %s%s, made by Bridge Span on %s", name, asked.For, at(asked.From), time.Now().UTC().Format("2006-01-02 15:04 UTC")), m.Mappings, before)
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

// leads is the place that a signpost leads to.
func leads(one model.Seen) (mapping.Mapping, error) {
	m := mapping.Mapping{Path: one.Path, Share: one.First.Share, Sub: one.First.Sub}
	host, port, err := net.SplitHostPort(one.First.Listens.HostPort)
	if err != nil {
		return m, err
	}
	m.Host = host
	if port != "445" {
		m.Port, err = strconv.Atoi(port)
	}
	return m, err
}

// throughFront is a mapping that leads through a front: it stays right whatever server is behind it.
func throughFront(m mapping.Mapping, f model.Front) mapping.Mapping {
	inside := strings.TrimPrefix(m.Path, "/"+f.Namespace+"/")
	return mapping.Mapping{Path: m.Path, Host: f.Host, Share: f.Share, Sub: inside, Instead: m.UNC()}
}

// assign puts in the letters, and returns those that were not given away before,
// by the number of the entry.
func assign(given map[string]string, open []model.Seen, list []mapping.Mapping) map[int64]string {
	var paths []string
	for _, one := range open {
		paths = append(paths, one.Path)
	}
	letters := mapping.Assign(paths, given)
	fresh := map[int64]string{}
	for i, one := range open {
		list[i].Letter = letters[one.Path]
		if one.Letter == "" && list[i].Letter != "" {
			fresh[one.Entry] = list[i].Letter
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
