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

// standinCommand runs what the demo and trials need in the place of services of others.
func standinCommand() *cli.Command {
	control := &cli.StringFlag{Name: "control", Value: "127.0.0.1:8690", Usage: "`ADDRESS` at which its dials are turned"}
	return &cli.Command{Name: "standin", Usage: "simulate what others run, for trials on this machine", Commands: []*cli.Command{
		{
			Name: "cloud", Usage: "run a simulated cloud: buckets that speak S3, in regions",
			Description: "At its first start it makes an account with an access key. Keys, rights and regions stand in FOLDER/cloud.toml\nfrom then on, and may be changed there. It listens on loopback alone.",
			Flags: []cli.Flag{
				&cli.StringFlag{Name: "dir", Value: "var/cloud", Usage: "`FOLDER` that holds all of it"},
				&cli.StringSliceFlag{Name: "region", Value: []string{"coast-1=127.0.0.31:8680", "inland-1=127.0.0.32:8680"}, Usage: "a region of a new cloud, as `NAME=ADDRESS:PORT`; may be given several times"},
				&cli.BoolFlag{Name: "tls", Usage: "serve with TLS, by an authority of its own"}, control},
			Action: runCloud,
		},
		{
			Name: "dial", Usage: "make the simulated cloud slow or faulty; all that is not given is well again",
			Flags: []cli.Flag{control,
				&cli.BoolFlag{Name: "show", Usage: "tell how they stand, and change nothing"},
				&cli.DurationFlag{Name: "delay", Usage: "`TIME` before each answer, such as 200ms"},
				&cli.FloatFlag{Name: "errors", Usage: "`SHARE` of requests that fail, from 0 to 1"},
				&cli.BoolFlag{Name: "outage", Usage: "end connections without an answer"},
				&cli.BoolFlag{Name: "throttle", Usage: "ask everybody to come later"},
				&cli.DurationFlag{Name: "stale", Usage: "`TIME` for which what is new is not listed"},
				&cli.Int64Flag{Name: "cut-after", Usage: "`BYTES` after which the connection of each upload ends"}},
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
		o.Regions = append(o.Regions, cloud.Region{Name: name, Listen: listen})
	}
	s, err := cloud.Start(o)
	if err != nil {
		return err
	}
	defer s.Stop()
	tellCloud(c.Root().Writer, s, o)
	return s.Wait(ctx)
}

// tellCloud says how to use a cloud that runs. Secrets are told by their file alone.
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
		fmt.Fprintf(table, "key\t%s\tof the account %s; its secret is in %s\n", k.ID, k.Account, filepath.Join(o.Dir, "cloud.toml"))
	}
	if s.CA != "" {
		fmt.Fprintf(table, "authority\t%s\t\n", s.CA)
	}
	fmt.Fprintf(table, "dials\thttp://%s/dials\tbspand standin dial --control %s\n", o.Control, o.Control)
	_ = table.Flush()
	fmt.Fprintln(w, "Ctrl-C ends it; what it holds stays.")
}

// controlWithin is how long turning a dial may take.
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
		return fmt.Errorf("no simulated cloud is reached at %s: %w", c.String("control"), err)
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(io.LimitReader(answer.Body, 4096))
	if err != nil {
		return err
	}
	if answer.StatusCode != http.StatusOK {
		return fmt.Errorf("it refuses: %s", bytes.TrimSpace(text))
	}
	var now cloud.Settings
	if err := json.Unmarshal(text, &now); err != nil {
		return err
	}
	fmt.Fprintf(c.Root().Writer, "delay %v, errors %v, outage %v, throttle %v, stale %v, cut after %d bytes\n", now.Delay, now.Errors, now.Outage, now.Throttle, now.Stale, now.CutAfter)
	return nil
}
