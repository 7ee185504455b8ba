package accounts

import (
	"context"
	"fmt"

	"bridgespan/core/account"
	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/access"
)

// mapTopic is that of the events about account maps; the subject is the name.
const mapTopic = "account-map"

// Maps lists account maps by name.
func (s *Service) Maps(ctx context.Context, page records.Page) ([]model.AccountMap, error) {
	return s.db.AccountMaps(ctx, page)
}

// Map finds an account map.
func (s *Service) Map(ctx context.Context, name string) (model.AccountMap, error) {
	return s.db.AccountMap(ctx, name)
}

// AddMap adds an account map. Its rules may be about servers that are not known yet.
func (s *Service) AddMap(ctx context.Context, n model.NewAccountMap) error {
	m := model.AccountMap{Name: n.Name, Note: n.Note, Rules: n.Rules}
	if err := tidyMap(&m); err != nil {
		return err
	}
	defer s.changed()
	return s.db.Change(ctx, func(tx *records.Tx) error {
		if err := tx.AddAccountMap(ctx, m); err != nil {
			return err
		}
		return tx.Record(ctx, access.Change(ctx, "account-map.add", m.Name, nil, m), mapTopic)
	})
}

// EditMap changes an account map. Replica sets that use it go on with the
// accounts as they were, until their accounts are paired again.
func (s *Service) EditMap(ctx context.Context, name string, version int64, e model.EditAccountMap) error {
	defer s.changed()
	return s.db.Change(ctx, func(tx *records.Tx) error {
		before, err := tx.AccountMap(ctx, name)
		if err != nil {
			return err
		}
		m := before
		m.Version = version
		for to, given := range map[*string]*string{&m.Name: e.Name, &m.Note: e.Note} {
			if given != nil {
				*to = *given
			}
		}
		if e.Rules != nil {
			m.Rules = *e.Rules
		}
		if err := tidyMap(&m); err != nil {
			return err
		}
		if err := tx.UpdateAccountMap(ctx, name, m); err != nil {
			return tx.Since(ctx, err, before.Name, version)
		}
		return tx.Record(ctx, access.Change(ctx, "account-map.edit", m.Name, before, m), mapTopic)
	})
}

// RemoveMap removes an account map that no replica set uses.
func (s *Service) RemoveMap(ctx context.Context, name string, version int64) error {
	defer s.changed()
	return s.db.Change(ctx, func(tx *records.Tx) error {
		m, err := tx.AccountMap(ctx, name)
		if err != nil {
			return err
		}
		removed := m
		removed.Version = version
		if err := tx.RemoveAccountMap(ctx, removed); err != nil {
			return tx.Since(ctx, err, m.Name, version)
		}
		return tx.Record(ctx, access.Change(ctx, "account-map.remove", m.Name, m, nil), mapTopic)
	})
}

// tidyMap checks a map, and writes its rules in one form.
func tidyMap(m *model.AccountMap) error {
	if err := namespace.CheckElement("name", m.Name); err != nil {
		return err
	}
	if len(m.Note) > 1000 {
		return fault.Field("note", "shorten it", "the note has %d bytes, at most 1000 are allowed", len(m.Note))
	}
	if len(m.Rules) == 0 {
		return fault.Field("rules", `write one, such as fern\* = heather\*`, "a map without rules maps nothing")
	}
	rules, err := rulesOf(*m)
	m.Rules = nil
	for _, r := range rules {
		m.Rules = append(m.Rules, r.String())
	}
	return err
}

func rulesOf(m model.AccountMap) (rules []account.Rule, err error) {
	for i, text := range m.Rules {
		r, err := account.ParseRule(fmt.Sprintf("rules[%d]", i), text)
		if err != nil {
			return nil, err
		}
		rules = append(rules, r)
	}
	return rules, nil
}
