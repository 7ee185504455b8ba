package main

import (
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"bridgespan/core/filter"
	"bridgespan/core/namespace"
	"bridgespan/model"
)

// asked reads from flags and arguments what a set is to be made of.
func asked(c *cli.Command, args []string) (model.NewReplicaSet, error) {
	n := model.NewReplicaSet{Name: args[0], Note: c.String("note"), Layout: c.String("layout"), Calendar: c.String("calendar"), Permissions: c.String("permissions"), AtticDays: c.Int("attic-days"), Publish: c.String("publish"), AccountMap: c.String("account-map"),
		Filter: filter.Rules{LeaveOut: c.StringSlice("leave-out"), Only: c.StringSlice("only")}}
	if n.AccountMap != "" && !c.IsSet("permissions") {
		n.Permissions = model.PermissionsMap
	}
	if retries(c) {
		n.Retry = retryIn(c, model.UsualRetry)
	}
	for _, text := range args[1:] {
		r, err := askedReplica(text)
		if err != nil {
			return n, err
		}
		r.Rights = c.String("folder-rights")
		n.Replicas = append(n.Replicas, r)
	}
	if seed := c.String("seed"); seed != "" {
		r, err := replicaIn(n.Replicas, "seed", seed)
		if err != nil {
			return n, err
		}
		r.Seed = true
	}
	for flag, into := range map[string]func(*model.NewReplica) *int64{
		"intake": func(r *model.NewReplica) *int64 { return &r.IntakeQuota }, "attic": func(r *model.NewReplica) *int64 { return &r.AtticQuota }} {
		if err := askedQuotas(n.Replicas, flag, c.StringSlice(flag), into); err != nil {
			return n, err
		}
	}
	for _, text := range c.StringSlice("lane") {
		ends, calendar, _ := strings.Cut(text, "=")
		from, to, ok := strings.Cut(ends, ">")
		if !ok {
			return n, usageError{fmt.Sprintf("lane %q: write FROM>TO or FROM>TO=CALENDAR", text)}
		}
		n.Lanes = append(n.Lanes, model.NewLane{From: strings.TrimSpace(from), To: strings.TrimSpace(to), Calendar: strings.TrimSpace(calendar)})
	}
	return n, nil
}

// askedReplica reads [NAME=]SERVER/SHARE[/FOLDER]. No server and no share has = in its name.
func askedReplica(text string) (r model.NewReplica, err error) {
	place := text
	if server, _, _ := strings.Cut(text, "/"); strings.Contains(server, "=") {
		r.Name, place, _ = strings.Cut(text, "=")
	}
	target, err := namespace.ParseTarget("SERVER/SHARE", place)
	r.Server, r.Share, r.Sub = target.Server, target.Share, target.Sub
	return r, err
}

// placeOf is a replica as an argument names it.
func placeOf(r *model.NewReplica) string {
	return strings.TrimSuffix(strings.Join([]string{r.Server, r.Share, r.Sub}, "/"), "/")
}

// replicaIn finds the replica that a flag names: by its name or its place, or by its
// server where that has one alone.
func replicaIn(replicas []model.NewReplica, flag, text string) (*model.NewReplica, error) {
	is := func(name string) bool { return namespace.Key(name) == namespace.Key(text) }
	var places []string
	var there []*model.NewReplica
	for i := range replicas {
		r := &replicas[i]
		if is(r.Name) || is(placeOf(r)) {
			return r, nil
		}
		if is(r.Server) {
			there = append(there, r)
		}
		places = append(places, placeOf(r))
	}
	switch len(there) {
	case 0:
		return nil, usageError{fmt.Sprintf("--%s: %q is none of %s", flag, text, strings.Join(places, ", "))}
	case 1:
		return there[0], nil
	}
	return nil, usageError{fmt.Sprintf("--%s: %s has several of %s; name one of them", flag, text, strings.Join(places, ", "))}
}

// askedQuotas reads bounds of all replicas, as SIZE, and of single ones, as REPLICA=SIZE:
// these count before those, in whatever order they are given.
func askedQuotas(replicas []model.NewReplica, flag string, texts []string, into func(*model.NewReplica) *int64) error {
	ofOne := map[*model.NewReplica]bool{}
	for _, text := range texts {
		name, size, one := strings.Cut(text, "=")
		if !one {
			size = text
		}
		bytes, err := sizeIn(flag, size)
		if err != nil {
			return err
		}
		if one {
			r, err := replicaIn(replicas, flag, name)
			if err != nil {
				return err
			}
			*into(r), ofOne[r] = bytes, true
			continue
		}
		for i := range replicas {
			if r := &replicas[i]; !ofOne[r] {
				*into(r) = bytes
			}
		}
	}
	return nil
}
