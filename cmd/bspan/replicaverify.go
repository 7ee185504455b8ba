package main

import (
	"context"
	"fmt"
	"io"
	"os"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"
	"github.com/urfave/cli/v3"

	"bridgespan/client"
	"bridgespan/model"
)

func verifyFlags() []cli.Flag {
	level := &cli.StringFlag{Name: "level", Value: "names", Usage: "names: names, sizes, times, attributes and permissions; sample: the contents of some files as well; full: every byte"}
	sample := &cli.IntFlag{Name: "sample", Usage: "read the contents of `N` files, for the level sample; 300 when absent"}
	return []cli.Flag{level, sample, &cli.BoolFlag{Name: "within-calendar", Usage: "read contents only while the lane between both is open, and no faster than it may carry"}, &cli.BoolFlag{Name: "no-wait", Usage: "start it and do not wait"}, &cli.StringFlag{Name: "again", Usage: "do it again and again: `WHEN` such as \"mon-fri 02:30\", \"daily 04:00\" or \"every 6h\""}}
}

func verifyCommands() []*cli.Command {
	return []*cli.Command{
		{Name: "verify", Usage: "find out whether the replicas of a set hold the same", ArgsUsage: "SET", Flags: verifyFlags(), Action: signedIn(verifyReplicaSet, "SET")},
		{Name: "verified", Usage: "show a verification again, or write it to a file", ArgsUsage: "RUN", Flags: []cli.Flag{
			&cli.StringFlag{Name: "report", Usage: "write it to `FILE` as an HTML page that needs nothing else"},
			&cli.StringFlag{Name: "manifest", Usage: "write the checksums of all files to `FILE`, for sha256sum -c (level full)"},
			&cli.StringFlag{Name: "replica", Usage: "what was found at this `REPLICA` alone"}, &cli.StringFlag{Name: "kind", Usage: "differences of this `KIND` alone, such as missing"}}, Action: signedIn(showReplicaVerification, "RUN")},
		{Name: "verifications", Usage: "list the latest verifications of a set", ArgsUsage: "SET", Action: signedIn(listVerifications, "SET")},
	}
}

func verifyReplicaSet(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	asked := model.VerifySet{Level: c.String("level"), Sample: c.Int("sample"), WithinCalendar: c.Bool("within-calendar")}
	if again := c.String("again"); again != "" {
		job, err := api.ScheduleVerification(ctx, args[0], model.ScheduleVerification{VerifySet: asked, Rule: again})
		if err != nil {
			return err
		}
		return done(c, job, "job %d verifies %s (%s) %s, the next time %s", job.ID, args[0], asked.Level, job.Rule, when(job.Next))
	}
	v, err := api.VerifyReplicaSet(ctx, args[0], asked)
	if err != nil {
		return err
	}
	return throughRun(ctx, c, api, v.Run, v, func(id int64) error { return showVerification(ctx, c, api, id, "", "") })
}

func showReplicaVerification(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	return onRun(args[0], func(id int64) error {
		for flag, write := range map[string]func(context.Context, int64, io.Writer) error{"report": api.VerifyReport, "manifest": api.VerifyManifest} {
			name := c.String(flag)
			if name == "" {
				continue
			}
			if err := writeFile(name, func(w io.Writer) error { return write(ctx, id, w) }); err != nil {
				return err
			}
			return done(c, map[string]string{"file": name}, "%s is written", name)
		}
		return showVerification(ctx, c, api, id, c.String("replica"), c.String("kind"))
	})
}

// writeFile writes a file whole, or leaves none.
func writeFile(name string, write func(io.Writer) error) error {
	f, err := os.OpenFile(name, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o644)
	if err != nil {
		return err
	}
	err = write(f)
	if closed := f.Close(); err == nil {
		err = closed
	}
	if err != nil {
		_ = os.Remove(name)
	}
	return err
}

// shownFindings is how many differences a command shows.
const shownFindings = 500

func showVerification(ctx context.Context, c *cli.Command, api *client.Client, id int64, replica, kind string) error {
	v, err := api.ReplicaVerification(ctx, id)
	if err != nil {
		return err
	}
	found, err := api.VerifyFindings(ctx, id, replica, kind, "", "", shownFindings)
	if err != nil {
		return err
	}
	value := struct {
		model.ReplicaVerification
		Findings []model.VerifyFinding `json:"findings"`
	}{v, found.Items}
	if err := show(c, value, setVerificationTable(v, found)); err != nil {
		return err
	}
	return differences(v)
}

// differences returns an error when a verification found some that nothing explains.
func differences(v model.ReplicaVerification) error {
	n, overdue := int64(0), int64(0)
	for _, r := range v.Replicas {
		n, overdue = n+r.Counts.Unexplained(), overdue+r.Counts.Overdue
	}
	if n == 0 {
		return nil
	}
	text := english.Plural(int(n), "difference", "") + " in " + v.Set
	if overdue > 0 {
		text += fmt.Sprintf(", %d overdue", overdue)
	}
	return findings{text}
}

func setVerificationTable(v model.ReplicaVerification, found model.Page[model.VerifyFinding]) table {
	t := table{heads: []string{"replica", "path", "differs in", v.Against, "there", "explained"}}
	for _, f := range found.Items {
		t.add(f.Replica, f.Path, string(f.Kind), f.First, f.Second, f.Why)
	}
	if found.Next != "" {
		t.after = fmt.Sprintf("Only the first %d differences are shown; all are in the report: bspan replica verified %d --report FILE\n", len(found.Items), v.Run.ID)
	}
	for _, r := range v.Replicas {
		t.after += fmt.Sprintf("%s: %s files and folders compared, %s read; %s, %s overdue, %s explained, and %s in use.\n", r.Replica, humanize.Comma(r.Counts.Compared), humanize.IBytes(uint64(r.Read)), english.Plural(int(r.Counts.Unexplained()), "difference", ""), humanize.Comma(r.Counts.Overdue), humanize.Comma(r.Counts.Explained), humanize.Comma(r.Counts.InUse))
		for _, path := range r.Opened {
			t.after += fmt.Sprintf("%s leads to %s from now on.\n", path, r.Replica)
		}
	}
	t.after += v.Verdict
	if len(t.rows) == 0 {
		t.empty = t.after
	}
	return t
}

func listVerifications(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	list, err := api.ReplicaVerifications(ctx, args[0])
	if err != nil {
		return err
	}
	t := table{heads: []string{"run", "level", "state", "ended", "differences", "read", "verdict"}, empty: "It was never verified. Begin with: bspan replica verify " + args[0]}
	for _, v := range list {
		var differ, read int64
		for _, r := range v.Replicas {
			differ, read = differ+r.Counts.Unexplained(), read+r.Read
		}
		at := ""
		if v.Run.Ended != nil {
			at = when(*v.Run.Ended)
		}
		t.add(fmt.Sprint(v.Run.ID), v.Level, string(v.Run.State), at, humanize.Comma(differ), humanize.IBytes(uint64(read)), v.Verdict)
	}
	return show(c, list, t)
}

func probeCommands() []*cli.Command {
	return []*cli.Command{
		{Name: "probe", Usage: "drop a marker file at one replica, and time it at the others", ArgsUsage: "SET", Flags: []cli.Flag{&cli.StringFlag{Name: "from", Usage: "drop it at this `REPLICA`; at the seed when absent"},
			&cli.DurationFlag{Name: "wait", Usage: "give it up after this long; 1h when absent"}, &cli.BoolFlag{Name: "no-wait", Usage: "start it and do not wait"},
			&cli.StringFlag{Name: "again", Usage: "do it again and again: `WHEN` such as \"daily 04:00\" or \"every 6h\""}}, Action: signedIn(dropProbe, "SET")},
		{Name: "probes", Usage: "list the latest probes of a set", ArgsUsage: "SET", Action: signedIn(func(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
			list, err := api.Probes(ctx, args[0])
			if err != nil {
				return err
			}
			return show(c, list, probeTable(list, args[0]))
		}, "SET")},
	}
}

func dropProbe(ctx context.Context, c *cli.Command, api *client.Client, args []string) error {
	asked := model.DropProbe{From: c.String("from"), WaitS: int(c.Duration("wait").Seconds())}
	if again := c.String("again"); again != "" {
		job, err := api.ScheduleProbe(ctx, args[0], model.ScheduleProbe{DropProbe: asked, Rule: again})
		if err != nil {
			return err
		}
		return done(c, job, "job %d drops a probe in %s %s, the next time %s", job.ID, args[0], job.Rule, when(job.Next))
	}
	p, err := api.DropProbe(ctx, args[0], asked)
	if err != nil {
		return err
	}
	return throughRun(ctx, c, api, p.Run, p, func(id int64) error {
		p, err := api.ReplicaProbe(ctx, id)
		if err != nil {
			return err
		}
		return show(c, p, probeTable([]model.ReplicaProbe{p}, args[0]))
	})
}

func probeTable(list []model.ReplicaProbe, set string) table {
	t := table{heads: []string{"run", "dropped", "from", "to", "content after", "permissions after", "foretold"}, empty: "No probe was dropped yet. Drop one with: bspan replica probe " + set}
	for _, p := range list {
		for _, a := range p.Arrivals {
			t.add(fmt.Sprint(p.Run.ID), when(p.Run.Created), p.From, a.Replica, tookText(a.ContentMs), tookText(a.PermissionsMs), tookText(a.ForetoldMs))
		}
	}
	return t
}

func tookText(ms *int64) string {
	if ms == nil {
		return "-"
	}
	d := time.Duration(*ms) * time.Millisecond
	if d < 10*time.Second {
		return fmt.Sprintf("%.1f s", d.Seconds())
	}
	return d.Round(time.Second).String()
}
