package estate_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"bridgespan/core/namespace"
	"bridgespan/guard"
	"bridgespan/model"
	"bridgespan/mover/host"
)

// A mover opens the bucket that its files are uploaded to, and forgets it. Other servers are asked for nothing.
func TestLetUpload(t *testing.T) {
	c := startClouded(t)
	m, err := host.Open(host.Config{Listen: "127.0.0.1:0", State: t.TempDir(), Folders: []string{"garden=" + t.TempDir()}})
	if err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(c.ctx)
	ended := guard.Result(func() error { return m.Serve(ctx) })
	t.Cleanup(func() {
		stop()
		if err := <-ended; err != nil {
			t.Error(err)
		}
	})
	secret, err := os.ReadFile(filepath.Clean(m.SecretFile))
	if err != nil {
		t.Fatal(err)
	}
	mover := model.Server{Name: "reed", Site: "Here", Certificate: m.Fingerprint}
	mover.Address, mover.Port = addressOf(t, m.Address())
	for v, password := range map[*model.Server]string{&c.account: c.secret, &mover: strings.TrimSpace(string(secret))} {
		if err := c.AddServer(c.ctx, *v, password, false); err != nil {
			t.Fatal(err)
		}
	}
	bucket, garden := namespace.Target{Server: "haar", Share: c.bucket}, namespace.Target{Server: "reed", Share: "garden"}
	ready := func(want bool) {
		t.Helper()
		if s, err := c.LookAtEdge(c.ctx, garden); err != nil || s.Ready != want || s.Edge {
			t.Errorf("the mover says %+v, %v", s, err)
		}
	}
	for name, pair := range map[string][2]namespace.Target{"the bucket itself": {bucket, bucket}, "no bucket": {garden, garden}} {
		if err := c.LetUpload(c.ctx, pair[0], pair[1]); err != nil {
			t.Errorf("%s: %v", name, err)
		}
	}
	ready(false)
	if err := c.LetUpload(c.ctx, garden, bucket); err != nil {
		t.Fatal(err)
	}
	ready(true)
	if err := c.RemoveEdge(c.ctx, garden); err != nil {
		t.Error(err)
	}
	ready(false)
	bucket.Share = "not-there"
	if err := c.LetUpload(c.ctx, garden, bucket); err == nil {
		t.Error("a bucket that is not there was opened")
	}
}
