// Command bspan is the command line of Bridge Span.
//
// It exits with 0 when done, 1 when it failed, 2 when it was used wrongly, 3
// when nobody is signed in and 4 when whoever is signed in may not do it.
package main

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"os/signal"
	"strings"
	"syscall"

	"github.com/urfave/cli/v3"

	"bridgespan/client"
	"bridgespan/core/fault"
	"bridgespan/core/text"
)

// version is set when the program is linked.
var version = "dev"

// Exit codes.
const (
	exitFailed     = 1
	exitUsage      = 2
	exitNoSignIn   = 3
	exitNotAllowed = 4
	exitFindings   = 5 // done, but with findings that need somebody
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	os.Exit(run(ctx, os.Args))
}

func run(ctx context.Context, args []string) int {
	err := newApp().Run(ctx, args)
	if err == nil {
		return 0
	}
	fmt.Fprintln(&text.Writer{To: os.Stderr}, "bspan: "+err.Error())
	return exitCode(err)
}

// usageError says that the command was written wrongly.
type usageError struct{ text string }

func (e usageError) Error() string { return e.text }

// findings says that a command was done, and found what needs somebody.
type findings struct{ text string }

func (f findings) Error() string { return f.text }

func exitCode(err error) int {
	var found findings
	if errors.As(err, &found) {
		return exitFindings
	}
	var refused *client.Error
	var usage usageError
	switch {
	case errors.As(err, &usage), fault.KindOf(err) == fault.Invalid:
		return exitUsage
	case errors.Is(err, errNoSignIn):
		return exitNoSignIn
	case errors.As(err, &refused) && (refused.Status == http.StatusUnprocessableEntity || refused.Status == http.StatusBadRequest):
		return exitUsage
	case errors.As(err, &refused) && refused.Status == http.StatusUnauthorized:
		return exitNoSignIn
	case errors.As(err, &refused) && refused.Status == http.StatusForbidden:
		return exitNotAllowed
	}
	return exitFailed
}

func newApp() *cli.Command {
	app := &cli.Command{
		Name: "bspan", Usage: "one namespace over several file servers", Version: version,
		// Names come from file servers, and may be anything that a terminal obeys.
		Writer: &text.Writer{To: os.Stdout}, ErrWriter: &text.Writer{To: os.Stderr},
		EnableShellCompletion: true,
		ConfigureShellCompletionCommand: func(c *cli.Command) {
			c.Hidden, c.Usage = false, "print the completion script of a shell: bash, zsh, fish or pwsh"
		},
		ExitErrHandler: func(context.Context, *cli.Command, error) {},
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "output", Aliases: []string{"o"}, Value: "table", Usage: "table, json or csv", Validator: checkOutput},
			&cli.StringFlag{Name: "ca", Usage: "PEM `FILE` of the authority that vouches for the service; login keeps it", Sources: cli.EnvVars("BSPAN_CA")},
			&cli.StringFlag{Name: "server", Usage: "address of the service, instead of where you signed in", Sources: cli.EnvVars("BSPAN_SERVER")},
		},
		Commands: []*cli.Command{
			loginCommand(), logoutCommand(), whoamiCommand(),
			siteCommand(), serverCommand(), shareCommand(), namespaceCommand(), applyCommand(), exportCommand(), whereCommand(), frontCommand(), moverCommand(),
			replicaCommand(), cloudCommand(), directoryCommand(), accountCommand(), rightsCommand(), dedupCommand(), migrationCommand(), runCommand(), jobCommand(),
			userCommand(), tokenCommand(), lockCommand(), changesCommand(),
		},
	}
	prepare(app)
	return app
}

// prepare gives every command the same manners: wrong use ends with one
// sentence, a group without a subcommand shows its help, and so does a command
// that is asked for it after its arguments.
func prepare(c *cli.Command) {
	c.OnUsageError = func(_ context.Context, c *cli.Command, err error, _ bool) error {
		return usageError{strings.ToLower(err.Error()[:1]) + err.Error()[1:] + "; see: " + c.FullName() + " --help"}
	}
	template := cli.CommandHelpTemplate
	if len(c.Commands) > 0 {
		template = cli.SubcommandHelpTemplate
	}
	c.CommandNotFound = func(_ context.Context, c *cli.Command, _ string) { cli.HelpPrinter(c.Root().Writer, template, c) }
	if len(c.Commands) > 0 && c.Action == nil {
		c.Action = func(_ context.Context, c *cli.Command) error {
			if c.Args().Present() {
				return usageError{fmt.Sprintf("%q is not a command of %s; see: %s --help", c.Args().First(), c.FullName(), c.FullName())}
			}
			return cli.ShowSubcommandHelp(c)
		}
	}
	for _, sub := range c.Commands {
		prepare(sub)
	}
}

// arguments returns the arguments of a command: those named, neither fewer nor
// more. One whose name ends in ? may be missing, and a last one that ends in
// ... may be several.
func arguments(c *cli.Command, names ...string) ([]string, error) {
	given := c.Args().Slice()
	needed := len(names)
	for needed > 0 && strings.HasSuffix(names[needed-1], "?") {
		needed--
	}
	many := len(names) > 0 && strings.HasSuffix(strings.TrimSuffix(names[len(names)-1], "?"), "...")
	written := strings.ReplaceAll(strings.Join(names, " "), "?", "")
	switch {
	case len(given) < needed:
		return nil, usageError{fmt.Sprintf("%s is missing; write: %s %s", names[len(given)], c.FullName(), written)}
	case len(given) > len(names) && !many:
		return nil, usageError{fmt.Sprintf("%q is one argument too many (quote names that hold spaces, and put options before them); write: %s %s", given[len(names)], c.FullName(), written)}
	}
	return given, nil
}
