package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"path/filepath"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/urfave/cli/v3"

	"bridgespan/standin/cloud"
)

// standinCommand runs simulated services for the demo and for trials.
func standinCommand() *cli.Command {
	control := &cli.StringFlag{Name: "control", Value: "127.0.0.1:8690", Usage: "`ADDRESS` of its control service"}
	return &cli.Command{Name: "standin", Usage: "run simulated services on this machine, for trials", Commands: []*cli.Command{
		{
			Name: "cloud", Usage: "run a simulated S3 object service with regions",
			Description: "The first start creates an account with an access key. Keys, rights and regions are kept in FOLDER/cloud.toml,\nand can be edited there. The service listens on loopback only.",
			Flags: []cli.Flag{
				&cli.StringFlag{Name: "dir", Value: "var/cloud", Usage: "`FOLDER` of its settings and data"},
				&cli.FloatFlag{Name: "price-stored", Usage: "`PRICE` of 1 GB stored for a month in a new cloud; the control service reports the bills at /bills"},
				&cli.FloatFlag{Name: "price-out", Usage: "`PRICE` of 1 GB read from a new cloud"},
				&cli.StringSliceFlag{Name: "region", Value: []string{"coast-1=127.0.0.31:8680", "inland-1=127.0.0.32:8680"}, Usage: "a region of a new cloud, as `NAME=ADDRESS:PORT`; may be given several times"},
				&cli.BoolFlag{Name: "tls", Usage: "use TLS, with a CA of its own"}, control},
			Action: runCloud,
		},
		{
			Name: "dial", Usage: "make the simulated cloud slow or faulty; a fault that is not given is turned off",
			Flags: []cli.Flag{control,
				&cli.BoolFlag{Name: "show", Usage: "print the current faults, and change nothing"},
				&cli.DurationFlag{Name: "delay", Usage: "`DURATION` added to each answer, such as 200ms"},
				&cli.FloatFlag{Name: "errors", Usage: "`SHARE` of requests that fail with an internal error, from 0 to 1"},
				&cli.BoolFlag{Name: "outage", Usage: "close connections without an answer"},
				&cli.BoolFlag{Name: "throttle", Usage: "answer every request with SlowDown"},
				&cli.DurationFlag{Name: "stale", Usage: "`DURATION` for which new objects are missing in listings"},
				&cli.Int64Flag{Name: "cut-after", Usage: "close the connection of each upload after this many `BYTES`"}},
			Action: turnDials,
		},
	}}
}

func runCloud(ctx context.Context, c *cli.Command) error {
	o := cloud.Options{Dir: c.String("dir"), TLS: c.Bool("tls"), Control: c.String("control")}
	for _, text := range c.StringSlice("region") {
		name, listen, ok := strings.Cut(text, "=")
		if !ok || name == "" {
			return fmt.Errorf("--region %q: write NAME=ADDRESS:PORT", text)
		}
		o.Regions = append(o.Regions, cloud.Region{Name: name, Listen: listen, StoredPrice: c.Float("price-stored"), OutPrice: c.Float("price-out")})
	}
	s, err := cloud.Start(o)
	if err != nil {
		return err
	}
	defer s.Stop()
	tellCloud(c.Root().Writer, s, o)
	return s.Wait(ctx)
}

// tellCloud prints how to use the running cloud. It names the file of a secret, never the secret.
func tellCloud(w io.Writer, s *cloud.Server, o cloud.Options) {
	scheme := "http://"
	if o.TLS {
		scheme = "https://"
	}
	table := tabwriter.NewWriter(w, 0, 0, 3, ' ', 0)
	for _, r := range s.Config.Regions {
		fmt.Fprintf(table, "region\t%s\t%s%s\n", r.Name, scheme, r.Listen)
	}
	for _, k := range s.Config.Keys {
		fmt.Fprintf(table, "key\t%s\taccount %s, secret in %s\n", k.ID, k.Account, filepath.Join(o.Dir, "cloud.toml"))
	}
	if s.CA != "" {
		fmt.Fprintf(table, "authority\t%s\t\n", s.CA)
	}
	fmt.Fprintf(table, "faults\thttp://%s/dials\tbspand standin dial --control %s\n", o.Control, o.Control)
	_ = table.Flush()
	fmt.Fprintln(w, "Ctrl-C stops it. The data is kept.")
}

// controlWithin bounds a request to the control service.
const controlWithin = 10 * time.Second

func turnDials(ctx context.Context, c *cli.Command) error {
	ctx, cancel := context.WithTimeout(ctx, controlWithin)
	defer cancel()
	method, body := http.MethodGet, []byte(nil)
	if !c.Bool("show") {
		method = http.MethodPut
		var err error
		if body, err = json.Marshal(cloud.Settings{Delay: c.Duration("delay"), Errors: c.Float("errors"), Outage: c.Bool("outage"), Throttle: c.Bool("throttle"), Stale: c.Duration("stale"), CutAfter: c.Int64("cut-after")}); err != nil {
			return err
		}
	}
	r, err := http.NewRequestWithContext(ctx, method, "http://"+c.String("control")+"/dials", bytes.NewReader(body))
	if err != nil {
		return err
	}
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return fmt.Errorf("no simulated cloud answers at %s: %w", c.String("control"), err)
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(io.LimitReader(answer.Body, 4096))
	if err != nil {
		return err
	}
	if answer.StatusCode != http.StatusOK {
		return fmt.Errorf("the simulated cloud refused the settings: %s", bytes.TrimSpace(text))
	}
	var now cloud.Settings
	if err := json.Unmarshal(text, &now); err != nil {
		return err
	}
	fmt.Fprintf(c.Root().Writer, "delay %v, errors %v, outage %v, throttle %v, stale %v, cut after %d bytes\n", now.Delay, now.Errors, now.Outage, now.Throttle, now.Stale, now.CutAfter)
	return nil
}
