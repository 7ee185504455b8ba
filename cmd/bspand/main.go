// Command bspand is the service of Bridge Span: the API with the console, the
// gateway, and the stand-ins of the demo.
package main

import (
	"context"
	"fmt"
	"os"
	"os/signal"
	"syscall"

	"github.com/urfave/cli/v3"

	"bridgespan/api"
	"bridgespan/mover/gctune"
)

// version is set when the program is linked.
var version = "dev"

func main() {
	gctune.Tune()
	// A terminal that is closed ends the program as Ctrl-C does, and a reader of
	// its output that went away must not end it before it has cleared up.
	signal.Ignore(syscall.SIGPIPE)
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	defer stop()
	app := &cli.Command{
		Name: "bspand", Usage: "the service of Bridge Span", Version: version,
		ExitErrHandler: func(context.Context, *cli.Command, error) {},
		Commands:       []*cli.Command{serveCommand(), moverCommand(), openAPICommand(), demoCommand(), standinCommand()},
	}
	if err := app.Run(ctx, os.Args); err != nil {
		fmt.Fprintln(os.Stderr, "bspand: "+err.Error())
		os.Exit(1)
	}
}

func openAPICommand() *cli.Command {
	return &cli.Command{
		Name: "openapi", Usage: "print the OpenAPI document of the API",
		Flags: []cli.Flag{&cli.BoolFlag{Name: "namespace-schema", Usage: "print the JSON Schema of documents of namespaces instead"}},
		Action: func(_ context.Context, c *cli.Command) error {
			if c.Bool("namespace-schema") {
				text, err := api.NamespaceSchema()
				if err == nil {
					_, err = fmt.Println(string(text))
				}
				return err
			}
			text, err := api.New(api.Services{}, api.Options{Version: "v1"}).OpenAPI()
			if err == nil {
				_, err = fmt.Println(string(text))
			}
			return err
		},
	}
}
