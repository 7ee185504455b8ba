package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"github.com/urfave/cli/v3"

	"bridgespan/demo"
)

func demoCommand() *cli.Command {
	dir := &cli.StringFlag{Name: "dir", Value: "var/demo", Usage: "`FOLDER` that holds all of it"}
	return &cli.Command{
		Name: "demo", Usage: "run the demo: a database, a domain, four file servers and the service, with made-up data",
		Flags: []cli.Flag{dir,
			&cli.StringFlag{Name: "size", Value: "default", Usage: "small, default or large", Sources: cli.EnvVars("DEMO_SIZE")},
			&cli.IntFlag{Name: "port", Value: 8600, Usage: "`PORT` of the console; the gateway has the tenth after it", Sources: cli.EnvVars("DEMO_PORT")},
			&cli.StringFlag{Name: "domain-address", Usage: "loopback `ADDRESS` of the domain", Sources: cli.EnvVars("DEMO_DOMAIN_ADDRESS")},
			&cli.IntFlag{Name: "smb-port", Value: 445, Usage: "`PORT` of the file servers", Sources: cli.EnvVars("DEMO_SMB_PORT")}},
		Action: runDemo,
		Commands: []*cli.Command{{
			Name: "reset", Usage: "remove the demo's data", Flags: []cli.Flag{dir},
			Action: func(_ context.Context, c *cli.Command) error {
				full, err := filepath.Abs(c.String("dir"))
				if err != nil {
					return err
				}
				return demo.Reset(full)
			},
		}},
	}
}

func runDemo(ctx context.Context, c *cli.Command) error {
	full, err := filepath.Abs(c.String("dir"))
	if err != nil {
		return err
	}
	self, err := os.Executable()
	if err != nil {
		return err
	}
	d, err := demo.Up(ctx, demo.Options{Dir: full, Size: demo.Size(c.String("size")), Port: c.Int("port"), SMBPort: c.Int("smb-port"), Domain: c.String("domain-address"), Service: self, Out: os.Stdout})
	if ctx.Err() != nil {
		fmt.Println("\nInterrupted; what was started has ended. The next start begins where it is safe to.")
		return nil
	}
	if err != nil {
		return err
	}
	defer d.Down()
	d.Greet()
	select {
	case <-ctx.Done():
		fmt.Println("\nEnding what was started …")
		return nil
	case <-d.Done():
		return errors.New("the service ended by itself; see " + filepath.Join(full, "bspand.log"))
	}
}
