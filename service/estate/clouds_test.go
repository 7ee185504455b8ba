package estate_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/minio/minio-go/v7"

	"bridgespan/core/fault"
	"bridgespan/core/finding"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/access"
	"bridgespan/service/estate"
	"bridgespan/service/vault"
	"bridgespan/standin/cloud"
	"bridgespan/standin/process"
	"bridgespan/standin/standintest"
)

// clouded is an estate without servers, and a simulated cloud with one bucket.
type clouded struct {
	*estate.Service
	db     *records.DB
	ctx    context.Context
	sky    *standintest.Sky
	bucket string
	// account is the server to add, and secret its secret key.
	account model.Server
	secret  string
}

func startClouded(t *testing.T) clouded {
	t.Helper()
	db, _ := standintest.Records(t)
	v, err := vault.Open(filepath.Join(t.TempDir(), "key"))
	if err != nil {
		t.Fatal(err)
	}
	sky := standintest.Cloud(t)
	at := sky.Bucket(t)
	c := clouded{Service: estate.New(db, v, func() {}), db: db, ctx: access.WithActor(t.Context(), model.User{Name: "tester"}), sky: sky, bucket: at.Bucket, secret: at.Secret}
	c.account = model.Server{Name: "haar", Site: "Here", Account: at.Key, Cloud: &model.CloudReach{Region: at.Region, PathStyle: true, Plain: true}}
	c.account.Address, c.account.Port = addressOf(t, sky.Endpoint)
	if err := c.AddSite(c.ctx, model.Site{Name: "Here"}); err != nil {
		t.Fatal(err)
	}
	return c
}

// changed is the account with a change. The settings of the service are a copy.
func (c clouded) changed(change func(*model.Server)) model.Server {
	v, reach := c.account, *c.account.Cloud
	v.Cloud = &reach
	change(&v)
	return v
}

func addressOf(t *testing.T, endpoint string) (host string, port int) {
	t.Helper()
	host, text, err := net.SplitHostPort(endpoint)
	if err == nil {
		port, err = strconv.Atoi(text)
	}
	if err != nil {
		t.Fatal(err)
	}
	return host, port
}

func wantField(t *testing.T, what string, err error, field string) {
	t.Helper()
	var f *fault.Error
	if !errors.As(err, &f) || f.Field != field || f.Remedy == "" {
		t.Errorf("%s: %v, want an error at the field %s, with a remedy", what, err, field)
	}
}

func TestCloudAccounts(t *testing.T) {
	c := startClouded(t)
	t.Run("Settings", func(t *testing.T) { testCloudSettings(t, c) })
	t.Run("TLS", func(t *testing.T) { testCloudTLS(t, c) })
	t.Run("Proxy", func(t *testing.T) { testCloudProxy(t, c) })
	t.Run("Edit", func(t *testing.T) { testEditCloud(t, c) })
	t.Run("Rights", func(t *testing.T) { testCloudRights(t, c) })
	t.Run("Outage", func(t *testing.T) { testCloudOutage(t, c) })
}

// Settings that cannot work are refused at the field to change, and nothing is kept.
func testCloudSettings(t *testing.T, c clouded) {
	closed, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	nobody := closed.Addr().(*net.TCPAddr).Port
	closed.Close()
	for what, one := range map[string]struct {
		change func(*model.Server)
		field  string
	}{
		"another region":           {func(v *model.Server) { v.Cloud.Region = "inland-9" }, "cloud.region"},
		"no region":                {func(v *model.Server) { v.Cloud.Region = "" }, "cloud.region"},
		"no key":                   {func(v *model.Server) { v.Account = "" }, "account"},
		"a long key":               {func(v *model.Server) { v.Account = strings.Repeat("k", 256) }, "account"},
		"a port that nobody has":   {func(v *model.Server) { v.Port = nobody }, "address"},
		"a port beyond all":        {func(v *model.Server) { v.Port = 65536 }, "port"},
		"an address with a scheme": {func(v *model.Server) { v.Address = "http://" + v.Address }, "address"},
		"an unknown name":          {func(v *model.Server) { v.Address = "haar.invalid" }, "address"},
		"a mover and a cloud":      {func(v *model.Server) { v.Certificate = strings.Repeat("ab", 32) }, "cloud"},
		"a price below nothing":    {func(v *model.Server) { v.Cloud.Currency, v.Cloud.OutPrice = "EUR", -0.1 }, "cloud.outPrice"},
		"no price at all":          {func(v *model.Server) { v.Cloud.Currency, v.Cloud.StoredPrice = "EUR", math.NaN() }, "cloud.storedPrice"},
		"a price beyond all":       {func(v *model.Server) { v.Cloud.Currency, v.Cloud.StoredPrice = "EUR", 2e6 }, "cloud.storedPrice"},
		"a price of no currency":   {func(v *model.Server) { v.Cloud.StoredPrice = 0.02 }, "cloud.currency"},
		"a currency with a figure": {func(v *model.Server) { v.Cloud.Currency = "EUR1" }, "cloud.currency"},
		"a long currency":          {func(v *model.Server) { v.Cloud.Currency = "doubloons" }, "cloud.currency"},
		"a CA that is none":        {func(v *model.Server) { v.Cloud.Authority = "-----BEGIN CERTIFICATE-----" }, "cloud.authority"},
	} {
		wantField(t, what, c.AddServer(c.ctx, c.changed(one.change), c.secret, false), one.field)
	}
	wantField(t, "a wrong secret", c.AddServer(c.ctx, c.account, "another", false), "password")
	if list, err := c.db.Servers(c.ctx, records.Page{Limit: 10}); err != nil || len(list) != 0 {
		t.Errorf("kept %+v, %v", list, err)
	}
}

// A service with TLS is used only when its certificate is trusted.
func testCloudTLS(t *testing.T, c clouded) {
	port, err := process.FreePort("127.0.0.1")
	if err != nil {
		t.Fatal(err)
	}
	s, err := cloud.Start(cloud.Options{Dir: t.TempDir(), TLS: true, Regions: []cloud.Region{{Name: "coast-1", Listen: fmt.Sprint("127.0.0.1:", port)}}})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Stop)
	pem, err := os.ReadFile(s.CA)
	if err != nil {
		t.Fatal(err)
	}
	v := c.changed(func(v *model.Server) {
		v.Name, v.Account = "far-haar", s.Config.Keys[0].ID
		v.Address, v.Port = addressOf(t, s.Config.Regions[0].Listen)
		v.Cloud.Plain = false
	})
	secret := s.Config.Keys[0].Secret
	wantField(t, "a CA that is not trusted", c.AddServer(c.ctx, v, secret, false), "cloud.authority")
	v.Cloud.Authority = string(pem)
	if err := c.AddServer(c.ctx, v, secret, false); err != nil {
		t.Fatal(err)
	}
	if check, err := c.Check(c.ctx, "far-haar"); err != nil || check.Outcome == finding.Fail {
		t.Errorf("checked %+v, %v", check.Lines, err)
	}
	kept, err := c.db.Server(c.ctx, "far-haar")
	if err != nil || kept.Cloud == nil || *kept.Cloud != *v.Cloud {
		t.Errorf("kept %+v, %v", kept.Cloud, err)
	}
	if err := c.RemoveServer(c.ctx, "far-haar", kept.Version, false); err != nil {
		t.Error(err)
	}
}

// The password of a proxy is kept sealed, shown nowhere, and sent to no other proxy.
func testCloudProxy(t *testing.T, c clouded) {
	const password = "rose madder"
	proxy, other := standintest.StartProxy(t, "ivy", password), standintest.StartProxy(t, "ivy", password)
	through := func(address, password string) func(*model.Server) {
		return func(v *model.Server) {
			v.Cloud.Proxy, v.Cloud.ProxyPassword = address, model.Secret(password)
		}
	}
	for what, v := range map[string]model.Server{"no password": c.changed(through(proxy.As("ivy"), "")), "a wrong password": c.changed(through(proxy.As("ivy"), "blue")), "no user": c.changed(through(proxy.URL, ""))} {
		wantField(t, what, c.AddServer(c.ctx, v, c.secret, false), "proxyPassword")
	}
	wantField(t, "a password of nobody", c.AddServer(c.ctx, c.changed(through(proxy.URL, password)), c.secret, false), "cloud.proxy")
	wantField(t, "a password of no proxy", c.AddServer(c.ctx, c.changed(through("", password)), c.secret, false), "cloud.proxy")
	v := c.changed(through(proxy.As("ivy"), password))
	if text := fmt.Sprintf("%v %+v %#v", v.Cloud, *v.Cloud, v.Cloud.ProxyPassword); strings.Contains(text, password) {
		t.Errorf("it is printed: %s", text)
	}
	if err := c.AddServer(c.ctx, v, c.secret, false); err != nil {
		t.Fatal(err)
	}
	if check, err := c.Check(c.ctx, "haar"); err != nil || check.Outcome == finding.Fail {
		t.Errorf("checked %+v, %v", check.Lines, err)
	}
	sealed, err := c.db.ProxySecret(c.ctx, "haar")
	if err != nil || len(sealed) == 0 || bytes.Contains(sealed, []byte(password)) {
		t.Errorf("kept is %q, %v", sealed, err)
	}
	kept, err := c.db.Server(c.ctx, "haar")
	if text, bad := json.Marshal(kept); err != nil || bad != nil || bytes.Contains(text, []byte(password)) || kept.Cloud.ProxyPassword != "" {
		t.Fatalf("shown is %s, %v", text, err)
	}
	edit := func(change func(*model.Server)) error {
		t.Helper()
		v, err := c.db.Server(c.ctx, "haar")
		if err != nil {
			t.Fatal(err)
		}
		change(&v)
		return c.EditServer(c.ctx, "haar", v, "", false)
	}
	if err := edit(func(v *model.Server) { v.Note = "by ivy" }); err != nil {
		t.Error(err)
	}
	wantField(t, "another proxy", edit(through(other.As("ivy"), "")), "proxyPassword")
	wantField(t, "another user", edit(through(proxy.As("ben"), "")), "proxyPassword")
	if err := edit(through(other.As("ivy"), password)); err != nil || other.Seen.Load() == 0 {
		t.Errorf("another proxy with its password: %v, after %d requests", err, other.Seen.Load())
	}
	if err := edit(through("", "")); err != nil {
		t.Error(err)
	}
	if sealed, err := c.db.ProxySecret(c.ctx, "haar"); err != nil || sealed != nil {
		t.Errorf("without a proxy there is %q, %v", sealed, err)
	}
	if kept, err = c.db.Server(c.ctx, "haar"); err == nil {
		err = c.RemoveServer(c.ctx, "haar", kept.Version, false)
	}
	if err != nil {
		t.Error(err)
	}
}

// A stored secret is sent to no other service, and an account stays an account.
func testEditCloud(t *testing.T, c clouded) {
	if err := c.AddServer(c.ctx, c.account, c.secret, false); err != nil {
		t.Fatal(err)
	}
	kept, err := c.db.Server(c.ctx, "haar")
	if err != nil {
		t.Fatal(err)
	}
	edit := func(password string, change func(*model.Server)) error {
		v := c.changed(change)
		v.Version = kept.Version
		return c.EditServer(c.ctx, "haar", v, password, false)
	}
	wantField(t, "another address without its secret", edit("", func(v *model.Server) { v.Address = "127.0.0.9" }), "password")
	wantField(t, "another key without its secret", edit("", func(v *model.Server) { v.Account = "other-key" }), "password")
	wantField(t, "a file server of it", edit(c.secret, func(v *model.Server) { v.Cloud = nil }), "cloud")
	wantField(t, "a mover of it", edit(c.secret, func(v *model.Server) { v.Cloud, v.Account, v.Certificate = nil, "", strings.Repeat("ab", 32) }), "cloud")
	wantField(t, "another region, with the stored secret", edit("", func(v *model.Server) { v.Cloud.Region = "inland-9" }), "cloud.region")
	if err := edit("", func(v *model.Server) { v.Note = "objects of the trust" }); err != nil {
		t.Errorf("a note: %v", err)
	}
	if err := edit("", func(v *model.Server) { v.Note = "older" }); fault.KindOf(err) != fault.Stale {
		t.Errorf("an edit of an old version: %v", err)
	}
}

// The check names each right that the key lacks in a bucket, and what to do.
func testCloudRights(t *testing.T, c clouded) {
	reader := cloud.Key{ID: "reader-key", Secret: "a secret of the reader", Account: c.sky.Key.Account, Rights: []cloud.Right{cloud.Lists, cloud.Reads}}
	c.sky.AddKey(reader)
	v := c.changed(func(v *model.Server) { v.Name, v.Account = "reader", reader.ID })
	if err := c.AddServer(c.ctx, v, reader.Secret, false); err != nil {
		t.Fatal(err)
	}
	check, err := c.Check(c.ctx, "reader")
	if err != nil || check.Outcome == finding.Pass {
		t.Fatalf("checked %+v, %v", check, err)
	}
	if !slices.ContainsFunc(check.Lines, func(f finding.Finding) bool {
		return f.Severity != finding.Pass && strings.Contains(f.Remedy, "reader-key")
	}) {
		t.Errorf("no finding names the key: %+v", check.Lines)
	}
	if check, err := c.Check(c.ctx, "haar"); err != nil || check.Outcome != finding.Pass {
		t.Errorf("a key with all rights: %+v, %v", check.Lines, err)
	}
	for o := range c.sky.Client.Client.ListObjects(t.Context(), c.bucket, minio.ListObjectsOptions{Recursive: true}) {
		t.Errorf("the check left %s behind, %v", o.Key, o.Err)
	}
}

// A service that fails is reported, and is well again when it answers.
func testCloudOutage(t *testing.T, c clouded) {
	for what, faults := range map[string]cloud.Settings{"no answers": {Outage: true}, "errors only": {Errors: 1}} {
		c.sky.Dials().Turn(faults)
		check, err := c.Check(c.ctx, "haar")
		if err != nil || check.Outcome != finding.Fail {
			t.Errorf("%s: %+v, %v", what, check.Lines, err)
		}
		for _, line := range check.Lines {
			if line.Severity == finding.Fail && (line.Meaning == "" || line.Remedy == "") {
				t.Errorf("%s: a finding without meaning or remedy: %+v", what, line)
			}
		}
		if _, err := c.Share(c.ctx, "haar", c.bucket); fault.KindOf(err) != fault.Unavailable {
			t.Errorf("%s: the bucket was opened: %v", what, err)
		}
		if list, err := c.Shares(c.ctx, "haar"); err != nil || len(list) != 1 {
			t.Errorf("%s: the last list of buckets has %d, %v, want 1", what, len(list), err)
		}
	}
	c.sky.Dials().Turn(cloud.Settings{})
	if check, err := c.Check(c.ctx, "haar"); err != nil || check.Outcome != finding.Pass {
		t.Errorf("afterwards: %+v, %v", check.Lines, err)
	}
}
