package setup

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"time"

	"bridgespan/core/finding"
	"bridgespan/core/namespace"
	"bridgespan/guard"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/endpoint"
	"bridgespan/service/preflight"
	"bridgespan/service/replicas/sets"
	"bridgespan/tree"
	objects "bridgespan/tree/bucket"
)

// account checks the cloud account: its key, its clock, its prices.
func (w *checker) account(ctx context.Context) {
	name := w.setup.Account
	if name == "" {
		w.todo("account", "", "No cloud account is chosen", "choose one")
		return
	}
	v, err := w.DB.Server(ctx, name)
	if err != nil {
		w.fail("account", name, err)
		return
	}
	if w.cloud = v; v.Cloud == nil {
		w.add(finding.Fail, "account", name, name+" is a file server", "", "choose a cloud account")
		return
	}
	if w.reach, err = w.Estate.Reach(ctx, v.Name); err != nil {
		w.fail("account", name, err)
		return
	}
	w.pass("account", name, "%s", w.reach.Greeting())
	w.checks = append(w.checks, preflight.Clock(ctx, preflight.Place{Name: v.Name, Server: v, Reach: w.reach}))
	if v.Cloud.Plain {
		w.add(finding.Warn, "encryption", name, "The account is reached without TLS", "contents can be read on the network", "use TLS", finding.To(finding.EditServer, v.Name))
	}
	if v.Cloud.Currency == "" {
		w.add(finding.Warn, "prices", name, "Prices are unknown", "the plan forecasts bytes and no costs", "enter the prices of the account", finding.To(finding.EditServer, v.Name))
	}
}

// bucket checks the bucket: its name, the rights of the key in it, its retention, its region.
func (w *checker) bucket(ctx context.Context) {
	name := w.setup.Bucket
	if name == "" {
		w.todo("bucket", "", "No bucket is chosen", "choose a bucket of "+w.cloud.Name+", or enter a new name")
		return
	}
	t, err := w.reach.Tree(ctx, name, w.setup.Folder)
	if err != nil {
		w.unopened(ctx, name, err)
		return
	}
	defer t.Close()
	b, ok := t.(*objects.Tree)
	if !ok {
		w.fail("bucket", name, fmt.Errorf("%w: %s is not a bucket", tree.ErrUnsupported, name))
		return
	}
	w.rights(ctx, b)
	w.retention(ctx, b)
	if finding.Worst(w.checks) == finding.Fail {
		return
	}
	empty := w.contents(ctx, b)
	w.sealing(ctx, empty)
	w.otherSets(ctx)
	w.region(ctx, b)
}

// unopened tells why a bucket cannot be opened, and whether it can be created.
func (w *checker) unopened(ctx context.Context, name string, failed error) {
	shares, err := w.reach.Shares(ctx)
	listed := err == nil // without the right to list, nobody can tell whose it is
	own := listed && slices.ContainsFunc(shares, func(h model.Share) bool { return h.Name == name })
	if own || !listed && errors.Is(failed, fs.ErrPermission) {
		w.fail("bucket", name, w.Explain(ctx, w.cloud.Name, failed))
		return
	}
	taken, err := endpoint.Buckets(w.reach.Endpoint).BucketTaken(ctx, name)
	switch {
	case err != nil:
		w.fail("bucket", name, w.Explain(ctx, w.cloud.Name, err))
	case taken:
		w.add(finding.Fail, "name", name, "Another account or another region has a bucket of this name: names are unique in the whole service", "", "choose another name")
	default:
		w.todo("name", name, "There is no bucket of this name, and the name is free", "create the bucket in "+w.cloud.Cloud.Region, finding.To(finding.CreateBucket, w.cloud.Name, name))
	}
}

func (w *checker) rights(ctx context.Context, b *objects.Tree) {
	missing, err := b.MissingRights(ctx)
	switch {
	case err != nil:
		w.fail("rights", w.setup.Bucket, w.Explain(ctx, w.cloud.Name, err))
	case len(missing) > 0:
		w.add(finding.Fail, "rights", w.setup.Bucket, fmt.Sprintf("The access key %s may not: %s", w.cloud.Account, strings.Join(missing, ", ")), "", "grant it these rights in the bucket")
	default:
		w.pass("rights", w.setup.Bucket, "The access key may list, read, write and delete objects, and upload in parts")
	}
}

func (w *checker) retention(ctx context.Context, b *objects.Tree) {
	switch days, err := b.Retention(ctx); {
	case err != nil:
		w.fail("retention", w.setup.Bucket, w.Explain(ctx, w.cloud.Name, err))
	case days > 0:
		w.add(finding.Fail, "retention", w.setup.Bucket, fmt.Sprintf("The bucket retains every object for %s", sets.Count(int64(days), "day", "days")), "files could not be replaced or removed, and every version would cost money", "choose a bucket without retention")
	}
}

// contents tells what the bucket has already, and reports whether that is nothing.
func (w *checker) contents(ctx context.Context, b *objects.Tree) (empty bool) {
	for e, err := range b.List(ctx, ".", tree.Plain) {
		switch {
		case err != nil:
			w.fail("contents", w.setup.Bucket, w.Explain(ctx, w.cloud.Name, err))
		case tree.Reserved(e.Name):
			continue
		default:
			w.pass("contents", w.setup.Bucket, "The bucket holds files%s", map[bool]string{true: ": they are taken as they are"}[w.setup.Sealing == nil])
		}
		return false
	}
	w.pass("contents", w.setup.Bucket, "The bucket is empty")
	return true
}

// sealing checks how files are to be encrypted.
func (w *checker) sealing(ctx context.Context, empty bool) {
	at := namespace.Target{Server: w.cloud.Name, Share: w.setup.Bucket, Sub: w.setup.Folder}
	how, err := w.Estate.CheckSealing(ctx, "sealing", at, w.setup.Sealing)
	if err != nil {
		w.fail("sealing", w.setup.Bucket, err)
		return
	}
	if how == nil {
		return
	}
	f, err := w.JudgeSealing(ctx, at, how, empty)
	if err != nil {
		w.fail("sealing", w.setup.Bucket, err)
		return
	}
	w.checks = append(w.checks, f)
}

// otherSets checks that no other set has the folder of the bucket.
func (w *checker) otherSets(ctx context.Context) {
	hub := model.ReplicaSet{Replicas: []model.Replica{{Server: w.cloud.Name, Share: w.setup.Bucket, Sub: w.setup.Folder}}}
	if err := w.Free(ctx, w.DB.Queries, hub); err != nil {
		w.fail("other sets", w.setup.Bucket, err)
	}
}

// nearerBy is by how much another region must answer faster to be recommended.
const nearerBy = 15 * time.Millisecond

// region compares the delay of the region with those of the other accounts at the same provider.
func (w *checker) region(ctx context.Context, b *objects.Tree) {
	took, err := quickest(ctx, b)
	if err != nil {
		w.fail("region", w.cloud.Name, w.Explain(ctx, w.cloud.Name, err))
		return
	}
	others, err := w.DB.Servers(ctx, records.All)
	if err != nil {
		w.fail("region", w.cloud.Name, err)
		return
	}
	others = slices.DeleteFunc(others, func(v model.Server) bool { return v.Cloud == nil || v.Cloud.Region == w.cloud.Cloud.Region })
	delays, best := w.delaysOf(ctx, others), -1
	for i, d := range delays {
		if d == 0 || took-d < nearerBy {
			continue
		}
		if best < 0 || w.comparable(&others[i]) && !w.comparable(&others[best]) || w.comparable(&others[i]) == w.comparable(&others[best]) && d < delays[best] {
			best = i
		}
	}
	if best >= 0 {
		w.nearer(took, &others[best], delays[best])
		return
	}
	w.pass("region", w.cloud.Cloud.Region, "The region answers in %s; no region of another account is nearer", inMs(took))
}

func inMs(d time.Duration) string { return fmt.Sprintf("%.1f ms", float64(d.Microseconds())/1000) }

// pings is how often a delay is measured: the shortest counts.
const pings = 3

func quickest(ctx context.Context, b *objects.Tree) (least time.Duration, err error) {
	for i := range pings {
		took, err := b.Ping(ctx)
		if err != nil {
			return 0, err
		}
		if i == 0 || took < least {
			least = took
		}
	}
	return least, nil
}

// comparable reports whether the prices of another account can be compared with those of the set-up's account.
func (w *checker) comparable(v *model.Server) bool {
	return v.Cloud.Currency != "" && v.Cloud.Currency == w.cloud.Cloud.Currency
}

// nearer warns that the region of another account answers faster.
func (w *checker) nearer(took time.Duration, v *model.Server, other time.Duration) {
	c, d := w.cloud.Cloud, v.Cloud
	meaning := fmt.Sprintf("each request takes %s longer", inMs(took-other))
	if w.comparable(v) {
		meaning += fmt.Sprintf("; 1 GB stored costs %+.3f %s a month, and 1 GB read %+.3f %s", c.StoredPrice-d.StoredPrice, c.Currency, c.OutPrice-d.OutPrice, c.Currency)
	}
	w.add(finding.Warn, "region", c.Region, fmt.Sprintf("%s answers in %s, and %s (account %s) in %s", c.Region, inMs(took), d.Region, v.Name, inMs(other)), meaning, "choose a bucket in the nearer region, unless the data must be in "+c.Region)
}

// delaysOf measures the delays of other accounts; 0 is that of one that does not answer in time, which is no better choice.
func (w *checker) delaysOf(ctx context.Context, accounts []model.Server) []time.Duration {
	ctx, cancel := context.WithTimeout(ctx, delaysLast)
	defer cancel()
	delays := make([]time.Duration, len(accounts))
	var group guard.Group
	group.SetLimit(askedTogether)
	for i, v := range accounts {
		group.Go(func() error {
			delays[i], _ = w.delayOf(ctx, v)
			return nil
		})
	}
	_ = group.Wait()
	return delays
}

// delaysLast bounds how long the accounts of other regions are waited for.
const delaysLast = 10 * time.Second

// delayOf measures the delay of another account by listing its buckets: whether its key may do that does not matter.
func (w *checker) delayOf(ctx context.Context, v model.Server) (least time.Duration, err error) {
	r, err := w.Estate.Reach(ctx, v.Name)
	if err != nil {
		return 0, err
	}
	defer r.Close()
	for i := range pings {
		began := time.Now()
		if _, err := r.Shares(ctx); err != nil && !errors.Is(err, fs.ErrPermission) {
			return 0, err
		}
		if took := time.Since(began); i == 0 || took < least {
			least = took
		}
	}
	return least, nil
}
