package main

import (
	"context"
	"log/slog"
	"syscall"

	"github.com/urfave/cli/v3"

	"bridgespan/mover/host"
)

func moverCommand() *cli.Command {
	return &cli.Command{
		Name: "mover", Usage: "serve folders of this host to a Bridge Span service, as a mover",
		Description: "At its first start it makes a certificate and a secret, and says where. With both, the\nservice is told of it by: bspan server add NAME --site SITE --address HOST --certificate FINGERPRINT --password-file FILE",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "listen", Value: "127.0.0.1:8620", Usage: "`ADDRESS` at which the service reaches it", Sources: cli.EnvVars("BSPAND_MOVER_LISTEN")},
			&cli.StringSliceFlag{Name: "folder", Usage: "a folder to serve, as `NAME=PATH`; may be given several times"},
			&cli.StringFlag{Name: "fronts", Usage: "`FOLDER` below which it keeps fronts: namespaces as shares of the file service on this host", Sources: cli.EnvVars("BSPAND_MOVER_FRONTS")},
			&cli.StringFlag{Name: "file-service", Usage: "`FILE`: the configuration of that file service", Sources: cli.EnvVars("BSPAND_MOVER_FILE_SERVICE")},
			&cli.StringFlag{Name: "state-dir", Value: "var/mover", Usage: "`FOLDER` for its certificate and its secret", Sources: cli.EnvVars("BSPAND_MOVER_STATE_DIR")},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			// What is on its way in is nobody else's, until it has the mode of its folder.
			syscall.Umask(0o077)
			m, err := host.Open(host.Config{Listen: c.String("listen"), State: c.String("state-dir"), Folders: c.StringSlice("folder"), Fronts: c.String("fronts"), FileService: c.String("file-service")})
			if err != nil {
				return err
			}
			slog.Info("the mover serves", "address", m.Address(), "certificate", m.Fingerprint, "secret", m.SecretFile)
			return m.Serve(ctx)
		},
	}
}
