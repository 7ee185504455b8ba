// Package access knows who uses Bridge Span itself: users with passwords and
// roles, the sessions of the console, the tokens of the command line. What a
// role may do is decided here, in [Require], and nowhere else.
package access

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/records"
)

// Lives of credentials.
const (
	SessionLife = 12 * time.Hour
	TokenLife   = 90 * 24 * time.Hour
)

// Service is the use case.
type Service struct {
	db       *records.DB
	throttle Throttle
	holders  holders
	kick     func()

	mu         sync.Mutex
	setupToken string
}

// New makes the service. kick is called after every change.
func New(db *records.DB, kick func()) *Service {
	return &Service{db: db, holders: newHolders(), kick: kick, throttle: Throttle{AtOnce: 2, Queue: 10}}
}

type actorKey struct{}

// WithActor returns a context in which u acts.
func WithActor(ctx context.Context, u model.User) context.Context {
	return context.WithValue(ctx, actorKey{}, u)
}

// Actor is who acts in ctx; ok is false when nobody signed in.
func Actor(ctx context.Context) (u model.User, ok bool) {
	u, ok = ctx.Value(actorKey{}).(model.User)
	return u, ok
}

var roles = []model.Role{model.Viewer, model.Operator, model.Administrator}

// Require returns a fault unless whoever acts in ctx has the role or a higher one.
func Require(ctx context.Context, needed model.Role) error {
	u, ok := Actor(ctx)
	if !ok {
		return fault.New(fault.SignIn, "sign in first", "you are not signed in")
	}
	if slices.Index(roles, u.Role) < slices.Index(roles, needed) {
		return fault.New(fault.Forbidden, "ask an administrator to do it or to give you that role", "%s has the role %s, and this needs the role %s", u.Name, u.Role, needed)
	}
	return nil
}

// Change is a record of a change by whoever acts in ctx.
func Change(ctx context.Context, action, subject string, before, after any) model.Change {
	u, _ := Actor(ctx)
	return model.Change{At: time.Now().UTC(), Who: u.Name, Action: action, Subject: subject, Before: before, After: after}
}

// OfferSetup makes the token with which the first administrator is set up,
// when there is no user yet; "" when there is. The token is written to file,
// if one is named, for its owner alone.
func (s *Service) OfferSetup(ctx context.Context, file string) (string, error) {
	has, err := s.db.HasUsers(ctx)
	if err != nil || has {
		return "", err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.setupToken == "" {
		s.setupToken = rand.Text()
	}
	if file != "" {
		return s.setupToken, os.WriteFile(file, []byte(s.setupToken+"\n"), 0o600)
	}
	return s.setupToken, nil
}

// NeedsSetup reports whether the first administrator is still to be set up.
func (s *Service) NeedsSetup(ctx context.Context) (bool, error) {
	has, err := s.db.HasUsers(ctx)
	return !has, err
}

// Setup makes the first administrator.
func (s *Service) Setup(ctx context.Context, token, name, password string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.setupToken == "" || subtle.ConstantTimeCompare([]byte(strings.TrimSpace(token)), []byte(s.setupToken)) != 1 {
		return fault.Field("token", "copy it from where the service was first started", "this is not the set-up token")
	}
	ctx = WithActor(ctx, model.User{Name: name, Role: model.Administrator})
	// Another instance may have offered a token of its own: only the first counts.
	alone := func(tx *records.Tx) error {
		administrators, err := tx.CountAdministrators(ctx)
		if err == nil && administrators > 0 {
			return fault.New(fault.Taken, "sign in as that administrator", "the first administrator was set up already").At("token")
		}
		return err
	}
	if err := s.addUser(ctx, name, password, model.Administrator, alone); err != nil {
		return err
	}
	s.setupToken = ""
	return nil
}

// unknownHash makes a sign-in with an unknown name take as long as any other.
var unknownHash = sync.OnceValue(func() string {
	hash, _ := hashPassword(context.Background(), "nobody has this password")
	return hash
})

// mostName is how long a name may be that is tried, in bytes.
const mostName = 256

// SignIn checks a name and password; from is where the try comes from.
func (s *Service) SignIn(ctx context.Context, name, password, from string) (records.Account, error) {
	if len(name) > mostName || len(password) > mostPassword { // nobody has one
		name, password = "", ""
	}
	try, err := s.throttle.Begin(ctx, namespace.Key(name), from, password)
	if err != nil {
		return records.Account{}, err
	}
	defer try.Abandon()
	account, err := s.db.User(ctx, name)
	unknown := fault.KindOf(err) == fault.NotFound
	if err != nil && !unknown {
		return account, err
	}
	hash := account.PasswordHash
	if unknown {
		hash = unknownHash()
	}
	right, err := matches(ctx, password, hash)
	if err != nil {
		return account, err
	}
	if !right || unknown {
		try.Failed()
		return account, fault.New(fault.SignIn, "check both, and the case of the password", "the name or the password is wrong").At("password")
	}
	try.Succeeded()
	return account, nil
}

// Credential is what a signed-in client shows from then on.
type Credential struct {
	Secret  string // shown to the client once; only its hash is kept
	CSRF    string
	Expires time.Time
}

// Issue makes a credential of a kind ("session" or "token") for a user.
func (s *Service) Issue(ctx context.Context, account records.Account, kind, label, from string) (Credential, error) {
	life := SessionLife
	if kind == "token" {
		life = TokenLife
	}
	now := time.Now().UTC()
	c := Credential{Secret: rand.Text() + rand.Text(), CSRF: rand.Text(), Expires: now.Add(life)}
	err := s.db.AddCredential(ctx, account.ID, records.Credential{Hash: sha256.Sum256([]byte(c.Secret)), Kind: kind, Label: label, CSRF: c.CSRF, Created: now, Expires: c.Expires, Address: from})
	return c, err
}

// SignOut ends a credential, and what is open under it.
func (s *Service) SignOut(ctx context.Context, c records.Credential) error {
	defer s.kick()
	defer s.holders.Remove(c.Hash)
	return s.db.Change(ctx, func(tx *records.Tx) error {
		if err := tx.RemoveCredential(ctx, c.Hash); err != nil {
			return err
		}
		return tx.Tell(ctx, "user", "", time.Now().UTC())
	})
}

// Users lists the users.
func (s *Service) Users(ctx context.Context, page records.Page) ([]model.User, error) {
	accounts, err := s.db.Users(ctx, page)
	users := make([]model.User, len(accounts))
	for i, a := range accounts {
		users[i] = a.User
	}
	return users, err
}

// User finds a user.
func (s *Service) User(ctx context.Context, name string) (model.User, error) {
	a, err := s.db.User(ctx, name)
	return a.User, err
}

// AddUser adds a user.
func (s *Service) AddUser(ctx context.Context, name, password string, role model.Role) error {
	return s.addUser(ctx, name, password, role, func(*records.Tx) error { return nil })
}

// addUser adds a user when allowed, asked inside the transaction, says so.
func (s *Service) addUser(ctx context.Context, name, password string, role model.Role, allowed func(*records.Tx) error) error {
	if err := namespace.CheckElement("name", name); err != nil {
		return err
	}
	if err := checkPassword("password", password); err != nil {
		return err
	}
	u := model.User{Name: name, Role: role, Created: time.Now().UTC().Truncate(time.Microsecond)}
	hash, err := hashPassword(ctx, password)
	if err != nil {
		return err
	}
	defer s.kick()
	return s.db.Change(ctx, func(tx *records.Tx) error {
		if err := allowed(tx); err != nil {
			return err
		}
		if err := tx.AddUser(ctx, u, hash); err != nil {
			return err
		}
		return tx.Record(ctx, Change(ctx, "user.add", name, nil, u), "user")
	})
}

// EditUser changes role and password; "" leaves either. version is what the caller last read.
func (s *Service) EditUser(ctx context.Context, name string, version int64, password string, role model.Role) error {
	hash := ""
	if password != "" {
		if err := checkPassword("password", password); err != nil {
			return err
		}
		var err error
		if hash, err = hashPassword(ctx, password); err != nil {
			return err
		}
	}
	defer s.kick()
	defer s.holders.Purge()
	return s.db.Change(ctx, func(tx *records.Tx) error {
		administrators, err := tx.CountAdministrators(ctx)
		if err != nil {
			return err
		}
		a, err := tx.User(ctx, name)
		if err != nil {
			return err
		}
		before := a.User
		a.Version = version
		if role != "" {
			if a.Role == model.Administrator && role != a.Role && administrators == 1 {
				return errLastAdministrator.At("role")
			}
			a.Role = role
		}
		if hash != "" {
			a.PasswordHash = hash
		}
		if err := tx.UpdateUser(ctx, a, hash != ""); err != nil {
			return err
		}
		return tx.Record(ctx, Change(ctx, "user.edit", name, before, a.User), "user")
	})
}

var errLastAdministrator = fault.New(fault.Needed, "make somebody else an administrator first", "this is the last administrator")

// RemoveUser removes a user.
func (s *Service) RemoveUser(ctx context.Context, name string, version int64) error {
	defer s.kick()
	defer s.holders.Purge()
	return s.db.Change(ctx, func(tx *records.Tx) error {
		administrators, err := tx.CountAdministrators(ctx)
		if err != nil {
			return err
		}
		a, err := tx.User(ctx, name)
		if err != nil {
			return err
		}
		if a.Role == model.Administrator && administrators == 1 {
			return errLastAdministrator
		}
		before := a.User
		a.Version = version
		if err := tx.RemoveUser(ctx, a); err != nil {
			return err
		}
		return tx.Record(ctx, Change(ctx, "user.remove", name, before, nil), "user")
	})
}
