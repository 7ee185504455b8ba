package records

import (
	"context"
	"encoding/json"
	"strings"

	"bridgespan/core/account"
	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/model"
)

const mapColumns = `SELECT m.name, m.note, m.rules, (SELECT COUNT(*) FROM replica_sets s WHERE s.account_map_id = m.id), m.version FROM account_maps m`

func scanAccountMap(s scanner) (m model.AccountMap, err error) {
	var rules []byte
	if err = s.Scan(&m.Name, &m.Note, &rules, &m.Sets, &m.Version); err != nil {
		return m, err
	}
	return m, json.Unmarshal(rules, &m.Rules)
}

// AccountMaps lists account maps by name.
func (q Queries) AccountMaps(ctx context.Context, page Page) ([]model.AccountMap, error) {
	rows, err := q.run.QueryContext(ctx, mapColumns+` WHERE m.name_key > ? ORDER BY m.name_key LIMIT ?`, page.After, page.Limit)
	return collect(rows, err, scanAccountMap)
}

// AccountMap finds an account map by name.
func (q Queries) AccountMap(ctx context.Context, name string) (model.AccountMap, error) {
	return one(q.run.QueryRowContext(ctx, mapColumns+` WHERE m.name_key = ?`, namespace.Key(name)), scanAccountMap,
		notFound("account map", name, "list the account maps with: bspan account map list"))
}

// AddAccountMap adds an account map.
func (tx *Tx) AddAccountMap(ctx context.Context, m model.AccountMap) error {
	rules, err := json.Marshal(m.Rules)
	if err != nil {
		return err
	}
	_, _, err = tx.exec(ctx, `INSERT INTO account_maps (name, name_key, note, rules) VALUES (?, ?, ?, ?)`, m.Name, namespace.Key(m.Name), m.Note, rules)
	return taken(err, "name", "account map", m.Name)
}

// UpdateAccountMap changes an account map, found by its former name.
func (tx *Tx) UpdateAccountMap(ctx context.Context, former string, m model.AccountMap) error {
	rules, err := json.Marshal(m.Rules)
	if err != nil {
		return err
	}
	err = tx.expectVersion(ctx, "account map "+former, `UPDATE account_maps SET name = ?, name_key = ?, note = ?, rules = ?, version = version + 1 WHERE name_key = ? AND version = ?`,
		m.Name, namespace.Key(m.Name), m.Note, rules, namespace.Key(former), m.Version)
	return taken(err, "name", "account map", m.Name)
}

// RemoveAccountMap removes an account map that no replica set uses.
func (tx *Tx) RemoveAccountMap(ctx context.Context, m model.AccountMap) error {
	err := tx.expectVersion(ctx, "account map "+m.Name, `DELETE FROM account_maps WHERE name_key = ? AND version = ?`, namespace.Key(m.Name), m.Version)
	if number(err) != errStillNeeded {
		return err
	}
	rows, listErr := tx.run.QueryContext(ctx, `SELECT s.name FROM replica_sets s JOIN account_maps m ON m.id = s.account_map_id WHERE m.name_key = ? ORDER BY s.name_key`, namespace.Key(m.Name))
	names, listErr := collect(rows, listErr, func(s scanner) (name string, err error) { err = s.Scan(&name); return name, err })
	if listErr != nil {
		return listErr
	}
	return fault.New(fault.Needed, "end these sets first", "replica sets use it: %s", strings.Join(names, ", "))
}

// withAccountsOf lists the replica sets whose permissions name accounts as a
// server does.
func (q Queries) withAccountsOf(ctx context.Context, server string) ([]string, error) {
	rows, err := q.run.QueryContext(ctx, `SELECT t.name FROM replica_sets t JOIN servers v ON v.id = t.accounts_of WHERE v.name_key = ? ORDER BY t.name_key`, namespace.Key(server))
	return collect(rows, err, func(s scanner) (name string, err error) { err = s.Scan(&name); return name, err })
}

// ReplicaAccounts reads what the accounts of a set's permissions are at a replica.
func (q Queries) ReplicaAccounts(ctx context.Context, id int64) (map[account.SID]account.SID, error) {
	rows, err := q.run.QueryContext(ctx, `SELECT common, own FROM replica_accounts WHERE replica_id = ?`, id)
	found, err := collect(rows, err, func(s scanner) (pair [2]account.SID, err error) {
		var raw [2][]byte
		if err = s.Scan(&raw[0], &raw[1]); err != nil {
			return pair, err
		}
		for i := range raw {
			if pair[i], _, err = account.ReadSID(raw[i]); err != nil {
				return pair, err
			}
		}
		return pair, nil
	})
	pairs := make(map[account.SID]account.SID, len(found))
	for _, p := range found {
		pairs[p[0]] = p[1]
	}
	return pairs, err
}

// AddReplicaAccounts adds what the accounts of a set's permissions are at a new replica.
func (tx *Tx) AddReplicaAccounts(ctx context.Context, id int64, pairs map[account.SID]account.SID) error {
	var rows bulk
	for common, own := range pairs {
		rows.add(id, common.Binary(), own.Binary())
	}
	return rows.replacing(ctx, tx, `replica_accounts (replica_id, common, own)`)
}
