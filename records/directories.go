package records

import (
	"context"

	"bridgespan/core/namespace"
	"bridgespan/model"
)

const directoryColumns = `SELECT name, sid, address, port, account, ca <> '', note, version FROM directories`

func scanDirectory(s scanner) (d model.Directory, err error) {
	err = s.Scan(&d.Name, &d.SID, &d.Address, &d.Port, &d.Account, &d.Private, &d.Note, &d.Version)
	return d, err
}

// Directories lists the domains by name.
func (q Queries) Directories(ctx context.Context) ([]model.Directory, error) {
	rows, err := q.run.QueryContext(ctx, directoryColumns+` ORDER BY name_key`)
	return collect(rows, err, scanDirectory)
}

// Directory finds a domain by name.
func (q Queries) Directory(ctx context.Context, name string) (model.Directory, error) {
	return one(q.run.QueryRowContext(ctx, directoryColumns+` WHERE name_key = ?`, namespace.Key(name)), scanDirectory,
		notFound("domain", name, "list the domains with: bspan directory list"))
}

// DirectorySecret returns the sealed password of a domain's account, and the
// certificate that vouches for it.
func (q Queries) DirectorySecret(ctx context.Context, name string) (secret []byte, ca string, err error) {
	_, err = one(q.run.QueryRowContext(ctx, `SELECT secret, ca FROM directories WHERE name_key = ?`, namespace.Key(name)),
		func(s scanner) (struct{}, error) { return struct{}{}, s.Scan(&secret, &ca) },
		notFound("domain", name, "list the domains with: bspan directory list"))
	return secret, ca, err
}

// AddDirectory adds a domain.
func (tx *Tx) AddDirectory(ctx context.Context, d model.Directory, secret []byte, ca string) error {
	_, _, err := tx.exec(ctx, `INSERT INTO directories (name, name_key, sid, address, port, account, secret, ca, note) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		d.Name, namespace.Key(d.Name), d.SID, d.Address, d.Port, d.Account, secret, ca, d.Note)
	return taken(err, "address", "domain", d.Name)
}

// RemoveDirectory removes a domain.
func (tx *Tx) RemoveDirectory(ctx context.Context, name string, version int64) error {
	return tx.expectVersion(ctx, "domain "+name, `DELETE FROM directories WHERE name_key = ? AND version = ?`, namespace.Key(name), version)
}
