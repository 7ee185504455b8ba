package main

import (
	"cmp"
	"context"
	"errors"
	"log/slog"
	"os"
	"strings"
	"syscall"

	"github.com/urfave/cli/v3"

	"bridgespan/mover/edge"
	"bridgespan/mover/host"
	"bridgespan/mover/update"
)

// runMover runs a mover until ctx ends, or until an update put another program in place, which is started then.
func runMover(ctx context.Context, updates *update.Updater, c host.Config) error {
	if reverted, err := updates.Started(); err != nil || reverted {
		return cmp.Or(err, updates.Exec())
	}
	m, err := host.Open(c)
	if err != nil {
		if reverted, bad := updates.Failed(err); reverted && bad == nil {
			return updates.Exec()
		}
		return err
	}
	slog.Info("the mover serves", "address", m.Address(), "certificate", m.Fingerprint, "secret", m.SecretFile)
	if err := m.Serve(ctx); err != nil {
		return err
	}
	select {
	case <-updates.Restart():
		return updates.Exec()
	default:
		return nil
	}
}

// proxyPassword reads the password of a proxy from a file; "" names none.
func proxyPassword(file string) (string, error) {
	if file == "" {
		return "", nil
	}
	text, err := os.ReadFile(file)
	line, _, _ := strings.Cut(string(text), "\n")
	return strings.TrimRight(line, "\r"), err
}

func moverCommand() *cli.Command {
	return &cli.Command{
		Name: "mover", Usage: "serve folders of this host to a Bridge Span service, as a mover",
		Description: "At its first start it makes a certificate and a secret, and says where. With both, the\nservice is told of it by: bspan server add NAME --site SITE --address HOST --certificate FINGERPRINT --password-file FILE",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "listen", Value: "127.0.0.1:8620", Usage: "`ADDRESS` at which the service reaches it", Sources: cli.EnvVars("BSPAND_MOVER_LISTEN")},
			&cli.StringSliceFlag{Name: "folder", Usage: "a folder to serve, as `NAME=PATH`; may be given several times"},
			&cli.StringSliceFlag{Name: "samba", Usage: "`NAME` of a folder that Samba shares as well, with acl_xattr and ignoring the system's ACLs: both go by the same permissions; may be given several times"},
			&cli.StringFlag{Name: "fronts", Usage: "`FOLDER` below which it keeps fronts: namespaces as shares of the file service on this host", Sources: cli.EnvVars("BSPAND_MOVER_FRONTS")},
			&cli.StringFlag{Name: "file-service", Usage: "`FILE`: the configuration of that file service", Sources: cli.EnvVars("BSPAND_MOVER_FILE_SERVICE")},
			&cli.StringFlag{Name: "proxy", Usage: "HTTP proxy of this host to buckets, as `URL` such as http://proxy:3128, or none; as the service says when absent", Sources: cli.EnvVars("BSPAND_MOVER_PROXY")},
			&cli.StringFlag{Name: "proxy-password-file", Usage: "`FILE` whose first line is the password of the user that the proxy names, as in http://USER@HOST:PORT", Sources: cli.EnvVars("BSPAND_MOVER_PROXY_PASSWORD_FILE")},
			&cli.StringFlag{Name: "fill-on", Usage: "`ACCESS` that fills stubs: read fills the range that a program reads, and needs Linux 6.14; open fills the whole file before a program has it open; default: read where it works", Sources: cli.EnvVars("BSPAND_MOVER_FILL_ON")},
			&cli.StringFlag{Name: "state-dir", Value: "var/mover", Usage: "`FOLDER` for its certificate and its secret", Sources: cli.EnvVars("BSPAND_MOVER_STATE_DIR")},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			// What is on its way in is nobody else's, until it has the mode of its folder.
			syscall.Umask(0o077)
			program, err := update.Running()
			if err != nil {
				return err
			}
			proxyPassword, err := proxyPassword(c.String("proxy-password-file"))
			if err != nil {
				return err
			}
			updates := update.New(c.String("state-dir"), program, version)
			return runMover(ctx, updates, host.Config{Version: version, Updates: updates, FillOn: c.String("fill-on"), Proxy: c.String("proxy"), ProxyPassword: proxyPassword, Guard: []string{program.Path, "mover", "guard"}, Listen: c.String("listen"), State: c.String("state-dir"), Folders: c.StringSlice("folder"), Samba: c.StringSlice("samba"), Fronts: c.String("fronts"), FileService: c.String("file-service")})
		},
		Commands: []*cli.Command{
			{Name: "guard", Hidden: true, Usage: "keep stubs from being read while no mover runs; a mover starts it", ArgsUsage: "EDGES SOCKET",
				Action: func(ctx context.Context, c *cli.Command) error {
					if c.Args().Len() != 2 {
						return errors.New("a mover starts the guard, with the file of its edges and a socket")
					}
					return edge.Guard(ctx, c.Args().Get(0), c.Args().Get(1))
				}},
			{Name: "release", Usage: "let the stubs of a mover that does not run be read as they are, which is as zeros", Flags: []cli.Flag{&cli.StringFlag{Name: "state-dir", Value: "var/mover", Usage: "`FOLDER` of the mover"}},
				Action: func(ctx context.Context, c *cli.Command) error {
					return edge.EndGuards(ctx, c.String("state-dir"), "")
				}},
		},
	}
}
