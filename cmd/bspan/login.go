package main

import (
	"bufio"
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"bridgespan/client"
	"bridgespan/model"
)

// errNoSignIn: this machine keeps no token.
var errNoSignIn = errors.New("you are not signed in; run: bspan login --server URL --name NAME")

// signIn is what login keeps, in a file that only its owner may read.
type signIn struct {
	Server string `json:"server"`
	Token  string `json:"token"`
	// CA is the authority that vouches for the service, in PEM; empty for
	// those that the system trusts.
	CA string `json:"ca,omitempty"`
}

// client makes the client of the service.
func (s signIn) client() (*client.Client, error) {
	api := &client.Client{Base: s.Server, Token: s.Token}
	if s.CA == "" {
		return api, nil
	}
	trusted := x509.NewCertPool()
	if !trusted.AppendCertsFromPEM([]byte(s.CA)) {
		return nil, usageError{"--ca: the file holds no certificate in PEM; the service keeps its own as bspan-ca.pem beside its key"}
	}
	api.HTTP = &http.Client{Transport: &http.Transport{Proxy: http.ProxyFromEnvironment, ResponseHeaderTimeout: client.DocumentPatience, TLSClientConfig: &tls.Config{RootCAs: trusted}}}
	return api, nil
}

// readCA reads the authority that a flag names; "" when it names none.
func readCA(c *cli.Command) (string, error) {
	file := c.String("ca")
	if file == "" {
		return "", nil
	}
	text, err := os.ReadFile(file)
	return string(text), err
}

func signInFile() (string, error) {
	dir, err := os.UserConfigDir()
	return filepath.Join(dir, "bspan", "sign-in.json"), err
}

func readSignIn() (s signIn, err error) {
	file, err := signInFile()
	if err != nil {
		return s, err
	}
	text, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return s, errNoSignIn
	}
	if err != nil {
		return s, err
	}
	return s, json.Unmarshal(text, &s)
}

func (s signIn) write() error {
	file, err := signInFile()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	text, err := json.Marshal(s)
	if err != nil {
		return err
	}
	return os.WriteFile(file, text, 0o600)
}

// connect makes the client of the service that login or the environment name.
func connect(c *cli.Command) (*client.Client, error) {
	ca, err := readCA(c)
	if err != nil {
		return nil, err
	}
	if token := os.Getenv("BSPAN_TOKEN"); token != "" && c.String("server") != "" {
		return signIn{c.String("server"), token, ca}.client()
	}
	s, err := readSignIn()
	if err != nil {
		return nil, err
	}
	if asked := c.String("server"); asked != "" && strings.TrimSuffix(asked, "/") != strings.TrimSuffix(s.Server, "/") {
		// A token is only ever sent to the service that gave it.
		return nil, fmt.Errorf("%w (you are signed in to %s)", errNoSignIn, s.Server)
	}
	s.CA = cmp.Or(ca, s.CA)
	return s.client()
}

func passwordFlag() cli.Flag {
	return &cli.StringFlag{Name: "password-file", Usage: "`FILE` whose first line is the password, - for standard input; asked for when absent"}
}

// readPassword reads a password from the file named, the environment, or the
// terminal, so that it never stands on a command line that others can list.
func readPassword(c *cli.Command, prompt string) (string, error) {
	switch file := c.String("password-file"); {
	case file == "-":
		return firstLine(os.Stdin)
	case file != "":
		return passwordIn(file)
	case os.Getenv("BSPAN_PASSWORD") != "":
		return os.Getenv("BSPAN_PASSWORD"), nil
	case !term.IsTerminal(int(os.Stdin.Fd())):
		return "", usageError{"a password is needed: use --password-file FILE, --password-file - or BSPAN_PASSWORD"}
	}
	fmt.Fprint(os.Stderr, prompt+": ")
	text, err := term.ReadPassword(int(os.Stdin.Fd()))
	fmt.Fprintln(os.Stderr)
	return string(text), err
}

func firstLine(r io.Reader) (string, error) {
	line, err := bufio.NewReader(r).ReadString('\n')
	if err == io.EOF {
		err = nil
	}
	return strings.TrimRight(line, "\r\n"), err
}

// passwordIn is the first line of a file; "" without a file.
func passwordIn(file string) (string, error) {
	if file == "" {
		return "", nil
	}
	f, err := os.Open(file)
	if err != nil {
		return "", err
	}
	defer f.Close()
	return firstLine(f)
}

func loginCommand() *cli.Command {
	return &cli.Command{
		Name: "login", Usage: "sign in and keep a token on this machine",
		Flags: []cli.Flag{&cli.StringFlag{Name: "name", Usage: "user `NAME`", Required: true}, passwordFlag()},
		Action: func(ctx context.Context, c *cli.Command) error {
			if _, err := arguments(c); err != nil {
				return err
			}
			known, _ := readSignIn()
			server := cmp.Or(c.String("server"), known.Server)
			if server == "" {
				return usageError{"the service's address is missing; write: bspan login --server http://HOST:PORT --name NAME"}
			}
			password, err := readPassword(c, "Password of "+c.String("name"))
			if err != nil {
				return err
			}
			host, _ := os.Hostname()
			ca, err := readCA(c)
			if err != nil {
				return err
			}
			if ca == "" && server == known.Server {
				ca = known.CA
			}
			api, err := signIn{Server: server, CA: ca}.client()
			if err != nil {
				return err
			}
			token, err := api.Login(ctx, c.String("name"), password, "bspan on "+host)
			if err != nil {
				return err
			}
			if err := (signIn{server, token.Token, ca}).write(); err != nil {
				return err
			}
			return done(c, token.User, "signed in to %s as %s (%s) until %s", server, token.User.Name, token.User.Role, when(token.Expires))
		},
	}
}

func logoutCommand() *cli.Command {
	return &cli.Command{
		Name: "logout", Usage: "end the token and forget it",
		Action: func(ctx context.Context, c *cli.Command) error {
			api, err := connect(c)
			if err != nil {
				return err
			}
			if err := api.Logout(ctx); err != nil {
				return err
			}
			file, err := signInFile()
			if err == nil {
				err = os.Remove(file)
			}
			if err != nil {
				return err
			}
			return done(c, nil, "signed out of %s", api.Base)
		},
	}
}

func whoamiCommand() *cli.Command {
	return &cli.Command{
		Name: "whoami", Usage: "show who is signed in, where, and until when",
		Action: func(ctx context.Context, c *cli.Command) error {
			api, err := connect(c)
			if err != nil {
				return err
			}
			s, err := api.Session(ctx)
			if err != nil {
				return err
			}
			t := table{heads: []string{"name", "role", "server", "until"}}
			t.add(s.User.Name, string(s.User.Role), api.Base, when(s.Expires))
			return show(c, s, t)
		},
	}
}

func userCommand() *cli.Command {
	role := func(required bool) cli.Flag {
		return &cli.StringFlag{Name: "role", Usage: "viewer, operator or administrator", Required: required}
	}
	return &cli.Command{Name: "user", Usage: "who may use Bridge Span itself", Commands: []*cli.Command{
		{Name: "list", Usage: "list users", Action: signedIn(func(ctx context.Context, c *cli.Command, api *client.Client, _ []string) error {
			users, err := api.Users(ctx)
			if err != nil {
				return err
			}
			t := table{heads: []string{"name", "role", "since"}}
			for _, u := range users {
				t.add(u.Name, string(u.Role), when(u.Created))
			}
			return show(c, users, t)
		})},
		{Name: "add", Usage: "add a user", ArgsUsage: "NAME", Flags: []cli.Flag{role(true), passwordFlag()},
			Action: signedIn(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
				password, err := readPassword(c, "Password for "+args[0])
				if err != nil {
					return err
				}
				u, err := api.AddUser(ctx, model.NewUser{Name: args[0], Password: password, Role: model.Role(c.String("role"))})
				if err != nil {
					return err
				}
				return done(c, u, "added %s as %s", u.Name, u.Role)
			}, "NAME")},
		{Name: "edit", Usage: "change role or password; a new password ends the user's sessions", ArgsUsage: "NAME",
			Flags: []cli.Flag{role(false), passwordFlag(), &cli.BoolFlag{Name: "new-password", Usage: "ask for a new password"}, rehearseFlag()},
			Action: rehearsable(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
				e := model.EditUser{Role: model.Role(c.String("role"))}
				if c.Bool("new-password") || c.IsSet("password-file") {
					var err error
					if e.Password, err = readPassword(c, "New password for "+args[0]); err != nil {
						return err
					}
				}
				u, err := api.EditUser(ctx, args[0], e)
				if err != nil {
					return err
				}
				return done(c, u, "%s is %s", u.Name, u.Role)
			}, "NAME")},
		{Name: "remove", Usage: "remove a user", ArgsUsage: "NAME", Flags: []cli.Flag{rehearseFlag()},
			Action: rehearsable(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
				if err := api.RemoveUser(ctx, args[0]); err != nil {
					return err
				}
				return done(c, nil, "removed user %s", args[0])
			}, "NAME")},
	}}
}

// tokenCommand is about what somebody is signed in with.
func tokenCommand() *cli.Command {
	return &cli.Command{Name: "token", Usage: "the sessions and tokens that people are signed in with", Commands: []*cli.Command{
		{Name: "list", Usage: "list your sessions and tokens, or as an administrator those of others",
			Flags: []cli.Flag{&cli.StringFlag{Name: "user", Usage: "of this `USER`"}, &cli.BoolFlag{Name: "all", Usage: "of all users"}},
			Action: signedIn(func(ctx context.Context, c *cli.Command, api *client.Client, _ []string) error {
				held, err := api.Credentials(ctx, c.String("user"), c.Bool("all"))
				if err != nil {
					return err
				}
				t := table{heads: []string{"number", "user", "kind", "label", "last used", "from", "expires"}, empty: "No sessions or tokens."}
				for _, h := range held {
					label := h.Label
					if h.Current {
						label += " (this one)"
					}
					t.add(fmt.Sprint(h.ID), h.User, h.Kind, label, when(h.Used), h.Address, when(h.Expires))
				}
				return show(c, held, t)
			})},
		{Name: "remove", Usage: "end a session or token at once", ArgsUsage: "NUMBER", Flags: []cli.Flag{rehearseFlag()},
			Action: rehearsable(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
				return onNumber(args[0], "token list", func(id int64) error {
					if err := api.EndCredential(ctx, id); err != nil {
						return err
					}
					return done(c, nil, "ended session or token %d", id)
				})
			}, "NUMBER")},
	}}
}

// lockCommand is about what people lock at the gateway.
func lockCommand() *cli.Command {
	return &cli.Command{Name: "lock", Usage: "the write locks that people hold at the gateway", Commands: []*cli.Command{
		{Name: "list", Usage: "list the locks that are held", Flags: []cli.Flag{&cli.StringFlag{Name: "filter", Usage: "whose path or account contains this `TEXT`"}},
			Action: signedIn(func(ctx context.Context, c *cli.Command, api *client.Client, _ []string) error {
				locks, err := api.Locks(ctx, c.String("filter"))
				if err != nil {
					return err
				}
				t := table{heads: []string{"number", "path", "held by", "kind", "since", "until"}, empty: "Nobody holds a lock."}
				for _, l := range locks {
					t.add(fmt.Sprint(l.ID), l.Path, l.Account, lockKind(l), when(l.Since), when(l.Until))
				}
				return show(c, locks, t)
			})},
		{Name: "remove", Usage: "end a lock, whoever holds it", ArgsUsage: "NUMBER", Flags: []cli.Flag{rehearseFlag()},
			Action: rehearsable(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
				return onNumber(args[0], "lock list", func(id int64) error {
					if err := api.EndLock(ctx, id); err != nil {
						return err
					}
					return done(c, nil, "ended lock %d", id)
				})
			}, "NUMBER")},
	}}
}

func lockKind(l model.GatewayLock) string {
	kind := "exclusive"
	if l.Shared {
		kind = "shared"
	}
	if l.Deep {
		kind += ", with everything below"
	}
	return kind
}

func changesCommand() *cli.Command {
	return &cli.Command{
		Name: "changes", Usage: "show who changed what, newest first",
		Flags: []cli.Flag{&cli.IntFlag{Name: "limit", Value: 30, Usage: "how many at most"}},
		Action: signedIn(func(ctx context.Context, c *cli.Command, api *client.Client, _ []string) error {
			changes, err := api.Changes(ctx, c.Int("limit"))
			if err != nil {
				return err
			}
			t := table{heads: []string{"number", "when", "who", "what", "to"}, empty: "Nothing was changed yet."}
			for _, change := range changes {
				t.add(fmt.Sprint(change.ID), when(change.At), change.Who, change.Action, change.Subject)
			}
			return show(c, changes, t)
		}),
	}
}
