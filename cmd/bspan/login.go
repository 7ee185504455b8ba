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
