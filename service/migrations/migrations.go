// Package migrations moves shares with their permissions and accounts to other servers: survey, plan, rehearse, copy, verify, switch, then
// close or undo. What was entered and found is stored, so that anybody can continue.
//
// A survey of a migration is one of each share: see package surveys. Later surveys of a share show what changes in a day.
package migrations

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"

	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/access"
	"bridgespan/service/accounts"
	"bridgespan/service/estate"
	"bridgespan/service/surveys"
)

// Service is the use case.
type Service struct {
	db      *records.DB
	estate  *estate.Service
	people  *accounts.Service
	surveys *surveys.Service
	changed func()

	counted *lru.Cache[string, *model.ShareCounts] // by the numbers of surveys
}

// mostCounted bounds how many counts of shares are remembered.
const mostCounted = 10_000

// Topic of the events about migrations; the subject is the name.
const Topic = "migration"

// New makes the service. changed is called after every change.
func New(db *records.DB, e *estate.Service, a *accounts.Service, s *surveys.Service, changed func()) *Service {
	counted, _ := lru.New[string, *model.ShareCounts](mostCounted) // fails for sizes below 1
	return &Service{db, e, a, s, changed, counted}
}

// Add begins a migration. Nothing is surveyed yet.
func (s *Service) Add(ctx context.Context, n model.NewMigration) error {
	m := model.Migration{Name: n.Name, MigrationDraft: n.MigrationDraft}
	if err := namespace.CheckElement("name", n.Name); err != nil {
		return err
	}
	if err := s.check(ctx, &m.MigrationDraft); err != nil {
		return err
	}
	stamp(ctx, &m)
	return s.change(ctx, func(tx *records.Tx) error {
		if err := tx.AddMigration(ctx, m); err != nil {
			return err
		}
		return tx.Record(ctx, access.Change(ctx, "migration.add", m.Name, nil, m.MigrationDraft), Topic)
	})
}

// Edit changes what was entered. version is what the caller last read.
func (s *Service) Edit(ctx context.Context, name string, version int64, e model.EditMigration) error {
	before, err := s.db.Migration(ctx, name)
	if err != nil {
		return err
	}
	m := before
	m.Version = version
	e.Take(&m.MigrationDraft)
	if err := s.check(ctx, &m.MigrationDraft); err != nil {
		return err
	}
	stamp(ctx, &m)
	return s.change(ctx, func(tx *records.Tx) error {
		if err := tx.UpdateMigration(ctx, m); err != nil {
			return tx.Since(ctx, err, m.Name, version)
		}
		return tx.Record(ctx, access.Change(ctx, "migration.edit", m.Name, before.MigrationDraft, m.MigrationDraft), Topic)
	})
}

// Remove removes a migration. The surveys of its shares stay.
func (s *Service) Remove(ctx context.Context, name string, version int64) error {
	return s.change(ctx, func(tx *records.Tx) error {
		m, err := tx.Migration(ctx, name)
		if err != nil {
			return err
		}
		m.Version = version
		if err := tx.RemoveMigration(ctx, m); err != nil {
			return tx.Since(ctx, err, m.Name, version)
		}
		return tx.Record(ctx, access.Change(ctx, "migration.remove", m.Name, m.MigrationDraft, nil), Topic)
	})
}

func (s *Service) change(ctx context.Context, do func(*records.Tx) error) error {
	err := s.db.Change(ctx, do)
	if !records.Rehearsing(ctx) {
		s.changed()
	}
	return err
}

func stamp(ctx context.Context, m *model.Migration) {
	u, _ := access.Actor(ctx)
	m.Changed, m.By = time.Now().UTC().Truncate(time.Microsecond), u.Name
}

// check checks a draft, and writes its places as the servers do.
func (s *Service) check(ctx context.Context, d *model.MigrationDraft) error {
	if len(d.Sources) == 0 {
		return fault.Field("sources", "name a server, or a share as SERVER/SHARE", "nothing is to be migrated")
	}
	for i, text := range d.Sources {
		field := fmt.Sprintf("sources[%d]", i)
		place, err := s.place(ctx, field, text)
		if err != nil {
			return err
		}
		for _, other := range d.Sources[:i] {
			if strings.EqualFold(place, other) || strings.HasPrefix(strings.ToLower(place), strings.ToLower(other)+"/") || strings.HasPrefix(strings.ToLower(other), strings.ToLower(place)+"/") {
				return fault.Field(field, "name it once", "%s is part of %s, which is a source, too", place, other)
			}
		}
		d.Sources[i] = place
	}
	for i, text := range d.Leave {
		field := fmt.Sprintf("leave[%d]", i)
		place, err := s.sourceShare(ctx, d, field, text)
		if err == nil && slices.Contains(d.Leave[:i], place) {
			err = fault.Field(field, "name it once", "%s is in the list already", place)
		}
		if err != nil {
			return err
		}
		d.Leave[i] = place
	}
	if err := s.checkFolders(ctx, d); err != nil {
		return err
	}
	return s.checkTarget(ctx, d)
}

// checkFolders checks where single shares go.
func (s *Service) checkFolders(ctx context.Context, d *model.MigrationDraft) error {
	for i := range d.Folders {
		f := &d.Folders[i]
		field := fmt.Sprintf("folders[%d].", i)
		place, err := s.sourceShare(ctx, d, field+"share", f.Share)
		if err != nil {
			return err
		}
		if f.Folder = strings.Trim(f.Folder, "/"); f.Folder == "" {
			return fault.Field(field+"folder", "name a folder below the target", "%s has no folder", place)
		}
		if err := namespace.CheckPath(field+"folder", f.Folder); err != nil {
			return err
		}
		if slices.ContainsFunc(d.Folders[:i], func(other model.MigrationFolder) bool { return other.Share == place }) {
			return fault.Field(field+"share", "name it once", "%s is in the list already", place)
		}
		f.Share = place
	}
	return nil
}

// sourceShare is a share of the sources, as the records write it.
func (s *Service) sourceShare(ctx context.Context, d *model.MigrationDraft, field, text string) (string, error) {
	place, err := s.place(ctx, field, text)
	if err != nil {
		return "", err
	}
	server, share, _ := strings.Cut(place, "/")
	switch {
	case share == "":
		return "", fault.Field(field, "write it as SERVER/SHARE", "%s is not a share", text)
	case !slices.ContainsFunc(d.Sources, func(source string) bool { return strings.EqualFold(source, server) || strings.EqualFold(source, place) }):
		return "", fault.Field(field, "leave it out of the list", "%s is in none of the sources", place)
	}
	return place, nil
}

// place is a server, or a share, as the records write it.
func (s *Service) place(ctx context.Context, field, text string) (string, error) {
	name, share, isShare := strings.Cut(strings.Trim(text, "/"), "/")
	v, err := s.db.Server(ctx, name)
	switch {
	case err != nil:
		return "", fault.At(field, err)
	case !v.Can(model.HasAccounts):
		return "", fault.Field(field, "name a file server that is reached by SMB", "%s has no shares with permissions and accounts that could be migrated", v.Name)
	case !isShare:
		return v.Name, nil
	case share == "" || strings.Contains(share, "/"):
		return "", fault.Field(field, "write it as SERVER or SERVER/SHARE; folders are chosen in the plan", "%q names neither a server nor a share", text)
	}
	known, err := s.sharesOf(ctx, v.Name)
	if err != nil {
		return "", fault.At(field, err)
	}
	i := slices.IndexFunc(known, func(h model.Share) bool { return namespace.Key(h.Name) == namespace.Key(share) })
	if i < 0 {
		return "", fault.Field(field, "list its shares with: bspan share list "+v.Name, "%s has no share %q", v.Name, share)
	}
	return v.Name + "/" + known[i].Name, nil
}

// sharesOf are the shares of a server as they were last listed. One that was never listed is asked.
func (s *Service) sharesOf(ctx context.Context, server string) ([]model.Share, error) {
	known, err := s.db.Shares(ctx, server)
	if err != nil || len(known) > 0 {
		return known, err
	}
	r, err := s.estate.Reach(ctx, server)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	return s.estate.ListShares(ctx, r)
}
