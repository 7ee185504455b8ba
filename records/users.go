package records

import (
	"context"
	"time"

	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/model"
)

// Account is a user with what only the service needs.
type Account struct {
	ID           int64
	PasswordHash string
	model.User
}

const userColumns = `SELECT id, name, role, password_hash, created, version FROM users`

func scanUser(s scanner) (a Account, err error) {
	err = s.Scan(&a.ID, &a.Name, &a.Role, &a.PasswordHash, &a.Created, &a.Version)
	return a, err
}

// Users lists users by name, after the key of a former page.
func (q Queries) Users(ctx context.Context, page Page) ([]Account, error) {
	rows, err := q.run.QueryContext(ctx, userColumns+` WHERE name_key > ? ORDER BY name_key LIMIT ?`, page.After, page.Limit)
	return collect(rows, err, scanUser)
}

// User finds a user by name.
func (q Queries) User(ctx context.Context, name string) (Account, error) {
	return one(q.run.QueryRowContext(ctx, userColumns+` WHERE name_key = ?`, namespace.Key(name)), scanUser,
		notFound("user", name, "list the users with: bspan user list"))
}

// CountAdministrators counts the users who may do everything, and locks them
// against a change by another transaction.
func (tx *Tx) CountAdministrators(ctx context.Context) (n int, err error) {
	names, err := tx.run.QueryContext(ctx, userColumns+` WHERE role = 'administrator' FOR UPDATE`)
	list, err := collect(names, err, scanUser)
	return len(list), err
}

// HasUsers reports whether anybody can sign in yet.
func (q Queries) HasUsers(ctx context.Context) (bool, error) {
	var n int
	err := q.run.QueryRowContext(ctx, `SELECT EXISTS (SELECT 1 FROM users)`).Scan(&n)
	return n == 1, unavailable(err)
}

// AddUser adds a user.
func (tx *Tx) AddUser(ctx context.Context, u model.User, passwordHash string) error {
	_, _, err := tx.exec(ctx, `INSERT INTO users (name, name_key, password_hash, role, created) VALUES (?, ?, ?, ?, ?)`,
		u.Name, namespace.Key(u.Name), passwordHash, u.Role, u.Created)
	return taken(err, "name", "user", u.Name)
}

// UpdateUser changes role and password; a changed password ends the user's sessions and tokens.
func (tx *Tx) UpdateUser(ctx context.Context, a Account, newPassword bool) error {
	err := tx.expectVersion(ctx, "user "+a.Name, `UPDATE users SET role = ?, password_hash = ?, version = version + 1 WHERE id = ? AND version = ?`,
		a.Role, a.PasswordHash, a.ID, a.Version)
	if err == nil && newPassword {
		_, _, err = tx.exec(ctx, `DELETE FROM credentials WHERE user_id = ?`, a.ID)
	}
	return err
}

// RemoveUser removes a user and their sessions and tokens.
func (tx *Tx) RemoveUser(ctx context.Context, a Account) error {
	return tx.expectVersion(ctx, "user "+a.Name, `DELETE FROM users WHERE id = ? AND version = ?`, a.ID, a.Version)
}

// Credential is a session of the console or a token of the command line.
type Credential struct {
	ID      int64
	Hash    [32]byte // SHA-256 of what the holder shows
	Kind    string   // "session" or "token"
	Label   string
	CSRF    string
	Created time.Time
	Expires time.Time
	Used    time.Time // about: it is noted once a minute
	Address string    // that it was used from last
}

// AddCredential stores a credential, and removes expired ones in passing.
func (q Queries) AddCredential(ctx context.Context, userID int64, c Credential) error {
	if _, _, err := q.exec(ctx, `DELETE FROM credentials WHERE expires < ?`, c.Created); err != nil {
		return err
	}
	_, _, err := q.exec(ctx, `INSERT INTO credentials (hash, user_id, kind, label, csrf, created, expires, used, address) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		c.Hash[:], userID, c.Kind, c.Label, c.CSRF, c.Created, c.Expires, c.Created, short(c.Address, 64))
	return err
}

// Holder finds who holds a credential that is valid at now.
func (q Queries) Holder(ctx context.Context, hash [32]byte, now time.Time) (Account, Credential, error) {
	type found struct {
		Account
		Credential
	}
	f, err := one(q.run.QueryRowContext(ctx, `SELECT u.id, u.name, u.role, u.created, u.version, c.id, c.kind, c.label, c.csrf, c.created, c.expires, COALESCE(c.used, c.created), c.address
		FROM credentials c JOIN users u ON u.id = c.user_id WHERE c.hash = ? AND c.expires > ?`, hash[:], now),
		func(s scanner) (f found, err error) {
			err = s.Scan(&f.Account.ID, &f.Name, &f.Role, &f.Account.Created, &f.Version, &f.Credential.ID, &f.Kind, &f.Label, &f.CSRF, &f.Credential.Created, &f.Expires, &f.Used, &f.Address)
			return f, err
		}, fault.New(fault.SignIn, "sign in again", "you are not signed in"))
	f.Hash = hash
	return f.Account, f.Credential, err
}

// RemoveCredential ends a session or token.
func (q Queries) RemoveCredential(ctx context.Context, hash [32]byte) error {
	_, _, err := q.exec(ctx, `DELETE FROM credentials WHERE hash = ?`, hash[:])
	return err
}

// CredentialUsed notes that a credential is used from an address.
func (q Queries) CredentialUsed(ctx context.Context, hash [32]byte, at time.Time, address string) error {
	_, _, err := q.exec(ctx, `UPDATE credentials SET used = ?, address = ? WHERE hash = ?`, at, short(address, 64), hash[:])
	return err
}

// OwnedCredential is a credential and the name of its user.
type OwnedCredential struct {
	Credential
	User string
}

// Credentials lists the credentials that are valid at a time, by user and age: those of one
// user, or of all when user is "". At most limit are listed, after the one numbered after.
func (q Queries) Credentials(ctx context.Context, user string, at time.Time, after int64, limit int) ([]OwnedCredential, error) {
	rows, err := q.run.QueryContext(ctx, `SELECT c.id, c.hash, u.name, c.kind, c.label, c.created, c.expires, COALESCE(c.used, c.created), c.address
		FROM credentials c JOIN users u ON u.id = c.user_id WHERE (? = '' OR u.name = ?) AND c.expires > ? AND c.id > ? ORDER BY c.id LIMIT ?`, user, user, at, after, limit)
	return collect(rows, err, func(s scanner) (h OwnedCredential, err error) {
		var hash []byte
		err = s.Scan(&h.ID, &hash, &h.User, &h.Kind, &h.Label, &h.Created, &h.Expires, &h.Used, &h.Address)
		copy(h.Hash[:], hash)
		return h, err
	})
}

// Credential finds a credential by its number.
func (q Queries) Credential(ctx context.Context, id int64) (OwnedCredential, error) {
	list, err := q.Credentials(ctx, "", time.Time{}, id-1, 1)
	if err == nil && (len(list) == 0 || list[0].ID != id) {
		err = fault.New(fault.NotFound, "list them again", "there is no session or token %d", id)
	}
	if err != nil {
		return OwnedCredential{}, err
	}
	return list[0], nil
}
