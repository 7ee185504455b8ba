package main

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"
	"github.com/urfave/cli/v3"

	"bridgespan/api"
	"bridgespan/console"
	"bridgespan/core/fault"
	"bridgespan/core/text"
	"bridgespan/gateway"
	"bridgespan/guard"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/access"
	"bridgespan/service/accounts"
	"bridgespan/service/estate"
	"bridgespan/service/estimates"
	"bridgespan/service/events"
	"bridgespan/service/fronts"
	"bridgespan/service/history"
	"bridgespan/service/jobs"
	"bridgespan/service/lens"
	"bridgespan/service/lint"
	"bridgespan/service/locks"
	"bridgespan/service/mapping"
	"bridgespan/service/migrations"
	"bridgespan/service/movers"
	"bridgespan/service/naming"
	"bridgespan/service/replicas"
	"bridgespan/service/rights"
	"bridgespan/service/shares"
	"bridgespan/service/surveys"
	"bridgespan/service/vault"
	"bridgespan/service/verify"
	"bridgespan/service/work"
)

func serveCommand() *cli.Command {
	c := defaults()
	flags := []cli.Flag{&cli.StringFlag{Name: "config", Usage: "TOML `FILE`", Sources: cli.EnvVars("BSPAND_CONFIG")}}
	for name, s := range c.settings() {
		variable := "BSPAND_" + strings.ToUpper(strings.ReplaceAll(name, "-", "_"))
		flags = append(flags, &cli.StringFlag{Name: name, Usage: s.usage, Sources: cli.EnvVars(variable), DefaultText: *s.to})
	}
	slices.SortFunc(flags, func(a, b cli.Flag) int { return strings.Compare(a.Names()[0], b.Names()[0]) })
	return &cli.Command{
		Name: "serve", Usage: "run the service until it is told to stop", Flags: flags,
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, err := readConfig(cmd)
			if err != nil {
				return err
			}
			if err := setUpLog(c); err != nil {
				return err
			}
			return serve(ctx, c)
		},
	}
}

func setUpLog(c config) error {
	var level slog.Level
	if err := level.UnmarshalText([]byte(c.LogLevel)); err != nil {
		return fmt.Errorf("log_level: %q is none of debug, info, warn, error", c.LogLevel)
	}
	options := &slog.HandlerOptions{Level: level}
	out := &text.Writer{To: os.Stderr} // names in it may be anything that a terminal obeys
	var handler slog.Handler = slog.NewTextHandler(out, options)
	if c.LogFormat == "json" {
		handler = slog.NewJSONHandler(out, options)
	}
	slog.SetDefault(slog.New(handler))
	return nil
}

// graceful is how long running requests may take to end at a stop.
const graceful = 10 * time.Second

// serve runs the service until ctx ends.
func serve(ctx context.Context, c config) error {
	db, err := records.Open(c.Database)
	if err != nil {
		return err
	}
	defer db.Close()
	v, err := vault.Open(c.KeyFile)
	if err != nil {
		return err
	}
	host, _ := os.Hostname()
	holder := fmt.Sprintf("%s/%d/%s", host, os.Getpid(), rand.Text()[:6])
	if err := migrate(ctx, db, holder); err != nil {
		return err
	}

	hub := events.NewHub(db)
	var names *naming.Service
	changed := func() { names.Forget(); hub.Kick() }
	sites := estate.New(db, v, changed)
	if err := sites.Reseal(ctx); err != nil {
		return err
	}
	names = naming.New(db, sites, hub.Kick)
	users := access.New(db, hub.Kick)
	leases := &work.Leases{DB: db, Holder: holder, Length: c.takeOver()}
	runs := jobs.New(db, leases, hub.Kick)
	people := accounts.New(db, v, sites, hub.Kick)
	permissions := rights.New(db, sites, names, people, runs, hub.Kick)
	counts := surveys.New(db, sites, people, runs)
	savings := estimates.New(db, sites, runs, c.workFolder(), hub.Kick)
	views := lens.New(names, permissions)
	verifier := verify.New(db, sites, people, names, runs)
	copies := replicas.New(db, sites, people, runs, leases, hub.Kick)
	copies.OpenTo(names.OpenVerified)
	copies.PublishBy(names.Publish)
	folders := shares.New(db, sites, people, permissions, runs, changed)
	if err := offerSetup(ctx, users, c); err != nil {
		return err
	}

	programs, err := movers.New(db, v, sites, runs, version)
	if err != nil {
		return err
	}
	entrances := fronts.New(db, v, sites, names, runs, hub.Kick)

	background, stop := context.WithCancel(context.WithoutCancel(ctx))
	var group guard.WaitGroup
	group.Go(func() { guard.Always(background, func() { hub.Run(background) }) })
	group.Go(func() { guard.Always(background, func() { sites.Watch(background, leases) }) })
	group.Go(func() { guard.Always(background, func() { names.WatchLocations(background, leases) }) })
	group.Go(func() { guard.Always(background, func() { runs.Run(background) }) })
	group.Go(func() { guard.Always(background, func() { copies.Run(background, hub) }) })
	group.Go(func() {
		guard.Always(background, func() { forgetOnNews(background, hub, names, sites, entrances.Kick) })
	})
	group.Go(func() { guard.Always(background, func() { entrances.Run(background, leases) }) })
	group.Go(func() {
		guard.Always(background, func() {
			leases.Keep(background, "prune records", func(ctx context.Context) time.Duration { return prune(ctx, db, c.retention()) })
		})
	})
	defer func() { _ = group.Wait() }()
	defer stop()

	front := api.New(api.Services{Access: users, Estate: sites, Naming: names, History: history.New(db), Events: hub,
		Accounts: people, Rights: permissions, Shares: folders, Surveys: counts, Verify: verifier, Lint: lint.New(db, names, permissions, counts, verifier), Lens: views, Mapping: mapping.New(db, names, views, entrances, hub.Kick), Jobs: runs, Replicas: copies, Estimates: savings, Migrations: migrations.New(db, sites, people, counts, hub.Kick), Locks: locks.New(db, hub.Kick), Fronts: entrances, Movers: programs},
		api.Options{Console: console.Files(), TLS: c.secure(), Proxies: c.proxies(), Gateway: c.gatewayURL(), Closing: ctx.Done(), Version: version})
	gate := gateway.New(ctx, names, sites, db, gateway.Options{Site: c.GatewaySite, SessionAge: c.sessionAge(), Proxies: c.proxies(), TLS: c.encrypts(c.Gateway) || c.SecureCookie == "on"})
	group.Go(func() {
		guard.Always(background, func() {
			leases.Keep(background, "put right what gateways left behind", func(ctx context.Context) time.Duration { return gate.Recover(ctx, sites.Open) })
		})
	})
	return listen(ctx, c, front, gate)
}

// pruneEvery is how often records are pruned.
const pruneEvery = time.Hour

// prune removes records that are older than is kept, and says when to do so again.
func prune(ctx context.Context, db *records.DB, keep records.Retention) time.Duration {
	p, err := db.Prune(ctx, keep, time.Now().UTC())
	switch {
	case err != nil && ctx.Err() == nil:
		slog.Warn("old records could not be removed; it is tried again", "error", err)
	case p.Changes > 0: // that somebody's record is gone is a record itself
		if err := db.Record(ctx, model.Change{At: time.Now().UTC(), Who: "the service", Action: "changes.prune", Subject: "keep_changes_days", Before: map[string]any{"changes": p.Changes}}, "change"); err != nil {
			slog.Warn("that changes were removed is not recorded", "changes", p.Changes, "error", err)
		}
		fallthrough
	case p.Runs+p.Health > 0:
		slog.Info("old records were removed", "runs", p.Runs, "health", p.Health, "changes", p.Changes)
	}
	return pruneEvery
}

// migrate waits for the database to be there, then brings the schema up to date.
func migrate(ctx context.Context, db *records.DB, holder string) error {
	deadline := time.Now().Add(30 * time.Second)
	for {
		applied, err := db.Migrate(ctx, holder)
		if err == nil {
			if len(applied) > 0 {
				slog.Info("the schema was brought up to date", "migrations", applied)
			}
			return nil
		}
		if fault.KindOf(err) != fault.Unavailable || time.Now().After(deadline) {
			return fmt.Errorf("prepare the database: %w", cmp.Or(errors.Unwrap(err), err))
		}
		slog.Info("waiting for the database", "error", err)
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Second):
		}
	}
}

func offerSetup(ctx context.Context, users *access.Service, c config) error {
	token, err := users.OfferSetup(ctx, c.SetupTokenFile)
	if err != nil || token == "" {
		return err
	}
	if c.SetupTokenFile != "" {
		slog.Info("nobody can sign in yet; the set-up token is in a file", "file", c.SetupTokenFile)
		return nil
	}
	fmt.Printf("Nobody can sign in yet. Open the console and make the first administrator with this set-up token:\n\n    %s\n\n", token)
	return nil
}

// leads reports whether news of a topic can change directions. A run's progress
// comes every second, and a large namespace takes longer to read.
func leads(topic string) bool {
	switch topic {
	case "site", "server", "share", "namespace", events.Reset:
		return true
	}
	return false
}

// forgetOnNews makes directions fresh after changes, and then tells those who show them elsewhere.
func forgetOnNews(ctx context.Context, hub *events.Hub, names *naming.Service, sites *estate.Service, shown func()) {
	watcher := hub.Watch(0)
	defer watcher.Close()
	learn := func() {
		if err := sites.LearnQuarantines(ctx); err != nil && ctx.Err() == nil {
			slog.Debug("which servers are left alone cannot be read now", "error", err)
		}
	}
	learn()
	for {
		select {
		case <-ctx.Done():
			return
		case e := <-watcher.C:
			switch {
			case e.Topic == "health":
				names.ForgetHealth()
			case e.Topic == "namespace":
				names.ForgetPath(e.Subject)
			case leads(e.Topic):
				names.Forget()
			}
			if e.Topic == "health" || e.Topic == "front" || leads(e.Topic) {
				shown()
			}
			if e.Topic == "server" || e.Topic == events.Reset {
				learn()
			}
		}
	}
}

// listen serves the API and the gateway until ctx ends or one of them fails.
func listen(ctx context.Context, c config, front *api.API, gate *gateway.Gateway) error {
	defer gate.Close()
	failed := make(chan error, 2)
	listener, err := listenOn(c, c.Listen)
	if err != nil {
		return err
	}
	app := front.App()
	guard.Go(func() {
		failed <- guard.Call(func() error { return app.Listener(listener, fiber.ListenConfig{DisableStartupMessage: true}) })
	})
	slog.Info("the console and the API are served", "address", c.url(listener.Addr().String()))
	server := &http.Server{Handler: guard.Handler(gate), ReadHeaderTimeout: 20 * time.Second, IdleTimeout: 2 * time.Minute}
	if c.Gateway != "" {
		listener, err := listenOn(c, c.Gateway)
		if err != nil {
			return err
		}
		guard.Go(func() { failed <- guard.Call(func() error { return server.Serve(listener) }) })
		slog.Info("the gateway is served", "address", c.url(listener.Addr().String()))
	}
	select {
	case err = <-failed:
	case <-ctx.Done():
		slog.Info("stopping")
	}
	until, cancel := context.WithTimeout(context.Background(), graceful)
	defer cancel()
	return errors.Join(err, app.ShutdownWithContext(until), server.Shutdown(until))
}

func listenOn(c config, address string) (net.Listener, error) {
	listener, err := net.Listen("tcp", address)
	if err != nil {
		return nil, fmt.Errorf("%s cannot be listened on (%w): end what uses it, or choose another address", address, err)
	}
	encrypted, err := c.encrypt(listener)
	if err != nil {
		listener.Close()
	}
	return encrypted, err
}
