package demo

import (
	"context"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"

	"bridgespan/client"
	"bridgespan/model"
	"bridgespan/standin/fileserver"
	"bridgespan/standin/leg"
	"bridgespan/tree"
	"bridgespan/tree/smb"
)

// lessons is the replica set of the scenario: what schools are taught with, in
// all three gardens. In working hours the island's radio link has better to do.
var lessons = model.NewReplicaSet{
	Name: "lessons", Note: "What schools are taught with, in all three gardens", Layout: model.LayoutHub, Calendar: "full; mon-fri 8-18 10",
	Permissions: model.PermissionsMap, AccountMap: gardens.Name,
	Replicas: []model.NewReplica{{Server: "fern", Share: "education"}, {Server: "heather", Share: "education"}, {Server: "sedge", Share: "education"}},
	Lanes:    []model.NewLane{{From: "fern", To: "sedge", Calendar: "full; mon-fri 8-18 2"}},
}

// gardens says who is who on the island, which has accounts of its own.
var gardens = model.NewAccountMap{Name: "gardens", Note: "Tern Island has accounts of its own, for when the radio link is down", Rules: []string{domainName + `\* = sedge\*`}}

// fought is the file that two people change at the same time.
const fought = "Courses/Ideas for the open day.txt"

// startLegs lays the legs between the service, which stands in Larkfield, and
// the servers of the other sites.
func (d *Demo) startLegs() error {
	for _, s := range servers {
		if s.behind == "" {
			continue
		}
		if err := d.layLeg(s.site, s.behind, s.address, d.SMBPort); err != nil {
			return fmt.Errorf("lay the leg to %s: %w", s.name, err)
		}
	}
	return nil
}

// layLeg lets what comes to an address reach another one as slowly as a site does.
func (d *Demo) layLeg(site, behind, address string, port int) error {
	for _, l := range legs {
		if l.To != site {
			continue
		}
		relay, err := leg.Start(net.JoinHostPort(behind, strconv.Itoa(port)), net.JoinHostPort(address, strconv.Itoa(port)), l.Mbit, time.Duration(l.RTT*float64(time.Millisecond)))
		if err != nil {
			return err
		}
		d.legs = append(d.legs, relay)
	}
	return nil
}

// reached is the address at which the service reaches a server.
func (s server) reached() string {
	if s.behind != "" {
		return s.behind
	}
	return s.address
}

// keepLessons plans the replica set of the scenario, and makes it.
func (d *Demo) keepLessons(ctx context.Context, api *client.Client) error {
	if _, err := api.AddAccountMap(ctx, gardens); err != nil {
		return err
	}
	return keep(ctx, api, lessons)
}

// keep plans a replica set, so that it is known what is to come of it, and makes it.
func keep(ctx context.Context, api *client.Client, set model.NewReplicaSet) error {
	p, err := api.PlanReplicaSet(ctx, set)
	if err != nil {
		return err
	}
	err = every(ctx, 200*time.Millisecond, func() (bool, error) {
		p, err = api.ReplicaPlan(ctx, p.Run.ID)
		return p.Run.State.Ended(), err
	})
	if err != nil {
		return err
	}
	_, err = api.CreateReplicaSet(ctx, set, nil)
	return err
}

// enliven lets people work on the lessons once they are the same everywhere: two
// change one file at the same time, in two gardens.
func (d *Demo) enliven(ctx context.Context, api *client.Client) error {
	if err := awaitFilled(ctx, api, lessons.Name); err != nil {
		return err
	}
	head, err := d.asPerson(ctx, "fern", "tansy.reed")
	if err != nil {
		return err
	}
	defer head.Close()
	// On the island they have accounts of their own, and may do there what they may
	// in Larkfield.
	island, err := d.asPerson(ctx, "sedge", "alder.quill")
	if err != nil {
		return err
	}
	defer island.Close()
	if err := put(ctx, head, fought, "The open day: ideas, please.\n"); err != nil {
		return err
	}
	if err := api.LookAtReplicas(ctx, lessons.Name, "fern"); err != nil {
		return err
	}
	if err := d.awaitFile(ctx, island, fought); err != nil {
		return err
	}
	if err := put(ctx, island, fought, "The open day, as Tern Island plans it: boats at ten.\n"); err != nil {
		return err
	}
	if err := put(ctx, head, fought, "The open day, as Larkfield plans it: gates open at nine.\n"); err != nil {
		return err
	}
	if err := api.LookAtReplicas(ctx, lessons.Name, ""); err != nil {
		return err
	}
	if err := d.holdFile(ctx, api, head); err != nil {
		return err
	}
	if _, err := api.DropProbe(ctx, lessons.Name, model.DropProbe{}); err != nil {
		return err
	}
	_, err = api.VerifyReplicaSet(ctx, lessons.Name, model.VerifySet{Level: "full"})
	return err
}

// held is the file that somebody in Larkfield has open for as long as the demo runs.
const held = "Courses/Timetable of the week.txt"

// holdFile lets somebody in Larkfield work on a file that is open for nobody else
// meanwhile: what was changed waits until it is let go.
func (d *Demo) holdFile(ctx context.Context, api *client.Client, head tree.Tree) error {
	if d.SMBPort != 445 { // Samba's client knows no other port
		return nil
	}
	if err := put(ctx, head, held, "Monday: grafting. Tuesday: ferns.\n"); err != nil {
		return err
	}
	fern := servers[slices.IndexFunc(servers, func(s server) bool { return s.name == "fern" })]
	open, err := fileserver.HoldOpen(fern.address, "education", held, "Monday: grafting. Tuesday: ferns. Wednesday: mosses.\n", fileserver.Person{Name: "tansy.reed", Domain: fern.domain(), Password: d.password("tansy.reed")})
	if err != nil {
		return err
	}
	d.held = append(d.held, open)
	return api.LookAtReplicas(ctx, lessons.Name, "fern")
}

// awaitFilled waits until all replicas of a set are filled.
func awaitFilled(ctx context.Context, api *client.Client, name string) error {
	return every(ctx, time.Second, func() (bool, error) {
		set, err := api.ReplicaSet(ctx, name)
		if err != nil {
			return false, err
		}
		for _, r := range set.Replicas {
			if !r.Filled {
				return false, nil
			}
		}
		return true, nil
	})
}

// awaitFile waits until a file has arrived.
func (d *Demo) awaitFile(ctx context.Context, t tree.Tree, name string) error {
	return every(ctx, time.Second, func() (bool, error) {
		_, err := t.Stat(ctx, name)
		return err == nil, nil
	})
}

// every asks again and again until the answer is yes.
func every(ctx context.Context, pause time.Duration, ask func() (bool, error)) error {
	tick := time.NewTicker(pause)
	defer tick.Stop()
	for {
		if yes, err := ask(); yes || err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-tick.C:
		}
	}
}

// asPerson opens the lessons of a server as somebody who works with them.
func (d *Demo) asPerson(ctx context.Context, name, who string) (tree.Tree, error) {
	for _, s := range servers {
		if s.name != name {
			continue
		}
		session, err := smb.Dial(ctx, smb.Target{Address: net.JoinHostPort(s.address, strconv.Itoa(d.SMBPort)), Domain: s.domain(), Account: who, Password: d.password(who)})
		if err != nil {
			return nil, err
		}
		return session.Tree(ctx, "education", "")
	}
	return nil, fmt.Errorf("the scenario has no server %s", name)
}

func put(ctx context.Context, t tree.Tree, name, text string) error {
	_, err := t.Put(ctx, name, strings.NewReader(text), tree.PutOptions{Replace: true})
	return err
}
