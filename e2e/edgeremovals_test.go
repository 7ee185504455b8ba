package e2e

import (
	"fmt"
	"os"
	"slices"

	"github.com/minio/minio-go/v7"

	"bridgespan/core/finding"
	"bridgespan/core/replica"
	"bridgespan/e2e/harness"
	"bridgespan/model"
)

// removals: what is removed in the bucket or at an edge, more of it than the limit, reaches the others when somebody says so, or comes
// back.
func (c *clouded) removals() {
	c.Helper()
	const all, gone = 50, 45
	name := func(i int) string { return fmt.Sprintf("bulk/%02d.txt", i) }
	for i := range all {
		c.put(name(i), []byte("some bytes"), 1)
	}
	await(c.T, "the files of which many go", func() bool {
		_, err := os.Stat(c.path(name(all - 1)))
		return err == nil && c.objects(name, all) == all
	})
	for i := range gone {
		if err := c.sky.Client.RemoveObject(c.Context(), c.at.Bucket, name(i), minio.RemoveObjectOptions{}); err != nil {
			c.Fatal(err)
		}
	}
	c.waits("haar", gone)
	if _, err := os.Stat(c.path(name(0))); err != nil {
		c.Errorf("before a decision: %v", err)
	}
	for what, r := range map[string]struct {
		replica  string
		decision replica.Decision
	}{"a decision that is none": {"haar", "later"}, "a decision about nothing": {"oak", replica.Apply}} {
		_, err := c.e.API.EditReplica(c.Context(), "scans", r.replica, model.EditReplica{Removals: &r.decision})
		refused(c.T, what, err, 422, "removals")
	}
	c.decide("haar", replica.Restore)
	await(c.T, "the objects", func() bool { return c.objects(name, all) == all })

	for i := gone; i < all; i++ { // a few need no decision
		if err := os.Remove(c.path(name(i))); err != nil {
			c.Fatal(err)
		}
	}
	await(c.T, "the removal of a few", func() bool { return c.objects(name, all) == gone })

	// All of them leave the set in one step: no scan finds a part of them.
	oak := harness.Tree(c.T, c.e.Oak, "store")
	defer oak.Close()
	if err := oak.Rename(c.Context(), "scans/bulk", "no longer scans", false); err != nil {
		c.Fatal(err)
	}
	c.waits("oak", gone)
	if n := c.objects(name, all); n != gone {
		c.Errorf("before a decision the bucket has %d of %d", n, gone)
	}
	c.decide("oak", replica.Apply)
	await(c.T, "the removals", func() bool {
		_, err := os.Stat(c.path(name(gone - 1)))
		return os.IsNotExist(err) && c.objects(name, all) == 0
	})
}

// objects counts the files that the bucket has, of so many names.
func (c *clouded) objects(name func(int) string, of int) (n int) {
	c.Helper()
	for i := range of {
		if _, err := c.sky.Client.StatObject(c.Context(), c.at.Bucket, name(i), minio.StatObjectOptions{}); err == nil {
			n++
		}
	}
	return n
}

// waits scans a replica until the given number of removals is pending there, with an alert.
func (c *clouded) waits(at string, files int64) {
	c.Helper()
	if err := c.e.API.LookAtReplicas(c.Context(), "scans", at); err != nil {
		c.Fatal(err)
	}
	await(c.T, "removals that wait at "+at, func() bool {
		set, err := c.e.API.ReplicaSet(c.Context(), "scans")
		i := slices.IndexFunc(set.Replicas, func(r model.Replica) bool { return r.Name == at })
		return err == nil && set.Replicas[i].Removals != nil && set.Replicas[i].Removals.Files == files && set.State == model.SetBehind &&
			slices.ContainsFunc(set.Alerts, func(f finding.Finding) bool { return f.Code == "removals" && f.Subject == at })
	})
}

// decide decides about removals that wait at a replica, until none do.
func (c *clouded) decide(at string, d replica.Decision) {
	c.Helper()
	if _, err := c.e.API.EditReplica(c.Context(), "scans", at, model.EditReplica{Removals: &d}); err != nil {
		c.Fatal(err)
	}
	await(c.T, "the end of removals that wait at "+at, func() bool {
		set, err := c.e.API.ReplicaSet(c.Context(), "scans")
		return err == nil && set.State == model.SetSteady && !slices.ContainsFunc(set.Replicas, func(r model.Replica) bool { return r.Removals != nil || r.Decision != "" })
	})
}
