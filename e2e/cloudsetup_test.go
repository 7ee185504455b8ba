package e2e

import (
	"errors"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"

	"bridgespan/client"
	"bridgespan/core/finding"
	"bridgespan/e2e/harness"
	"bridgespan/model"
	"bridgespan/mover/edge"
	"bridgespan/standin/cloud"
	"bridgespan/standin/standintest"
)

// settingUp sets up a cloud set over a share of oak and a small volume on a host with a mover.
type settingUp struct {
	*testing.T
	e   *harness.Estate
	api *client.Client
	sky *standintest.Sky
}

// TestCloudSetup goes through the steps of a set-up: each opens when the one before it is passed, and what cannot be is told at its
// step.
func TestCloudSetup(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	standintest.Volume(t, folder, volumeSize)
	if _, err := edge.Supported(folder, edge.OnRead); err != nil {
		t.Skip(err)
	}
	narrow := cloud.Key{ID: "narrow-key", Secret: "a secret without a right", Account: "trust", Rights: []cloud.Right{cloud.Lists, cloud.Reads, cloud.Writes, cloud.Manages}}
	stranger := cloud.Key{ID: "other-key", Secret: "a secret of others", Account: "other", Rights: cloud.AllRights}
	s := &settingUp{T: t, e: harness.StartEstate(t), sky: standintest.CloudOf(t, narrow, stranger)}
	s.api = s.e.API
	small, root := harness.StartMoverAt(t, folder), harness.StartMover(t)
	target := s.sky.Bucket(t)
	for _, n := range []model.NewServer{accountAt(t, s.sky, target), small.NewServer("sedge", "Upland"), root.NewServer("reed", "Upland"), s.account("narrow", narrow), s.account("others", stranger)} {
		if _, err := s.api.AddServer(t.Context(), n); err != nil {
			t.Fatal(err)
		}
	}
	harness.Fill(t, s.e.Oak)
	s.refused()
	if _, err := s.api.AddCloudSetup(t.Context(), model.NewCloudSetup{Name: "scans"}); err != nil {
		t.Fatal(err)
	}
	s.accounts()
	s.buckets()
	s.farRegion()
	s.movers()
	s.settings()
	s.edges()
	s.policies()
	s.page()
	s.planned()
	s.started()
}

// account is an account at the cloud by another key.
func (s *settingUp) account(name string, k cloud.Key) model.NewServer {
	n := accountAt(s.T, s.sky, s.sky.Bucket(s.T))
	n.Name, n.Account, n.Password = name, k.ID, k.Secret
	return n
}

// refused: what cannot be, whatever the servers say, is refused at its field, and nothing is stored.
func (s *settingUp) refused() {
	s.Helper()
	for what, c := range map[string]struct {
		draft model.CloudDraft
		field string
	}{
		"a capital in a bucket":     {model.CloudDraft{Bucket: "Scans"}, "bucket"},
		"a folder above":            {model.CloudDraft{Folder: "../scans"}, "folder"},
		"a calendar that is none":   {model.CloudDraft{Calendar: "now and then"}, "calendar"},
		"a line above the volume":   {model.CloudDraft{Edges: []model.DraftEdge{{Server: "sedge", Policy: &model.EdgePolicy{Fill: model.FillNames, FreePercent: 101}}}}, "edges[0].policy.freePercent"},
		"a line for whole files":    {model.CloudDraft{Edges: []model.DraftEdge{{Server: "sedge", Policy: &model.EdgePolicy{Fill: model.FillWhole, FreePercent: 10}}}}, "edges[0].policy.fill"},
		"two seeds":                 {model.CloudDraft{Edges: []model.DraftEdge{{Server: "sedge", Seed: true}, {Server: "oak", Seed: true}}}, "edges[1].seed"},
		"one folder as two edges":   {model.CloudDraft{Edges: []model.DraftEdge{{Server: "oak", Share: "store"}, {Server: "oak", Share: "store", Sub: "scans"}}}, "edges[1].sub"},
		"a pattern of files: brace": {model.CloudDraft{Edges: []model.DraftEdge{{Server: "sedge", Policy: &model.EdgePolicy{Fill: model.FillNames, Never: []string{"["}}}}}, "edges[0].policy.never"},
	} {
		_, err := s.api.AddCloudSetup(s.Context(), model.NewCloudSetup{Name: "scans", CloudDraft: c.draft})
		refused(s.T, what, err, 422, c.field)
	}
	if list, err := s.api.CloudSetups(s.Context()); err != nil || len(list) != 0 {
		s.Errorf("something was stored: %+v, %v", list, err)
	}
}

// change changes the draft, and checks it.
func (s *settingUp) change(e model.EditCloudSetup) model.CloudSetup {
	s.Helper()
	if _, err := s.api.EditCloudSetup(s.Context(), "scans", e); err != nil {
		s.Fatal(err)
	}
	c, err := s.api.CheckCloudSetup(s.Context(), "scans")
	if err != nil {
		s.Fatal(err)
	}
	return c
}

// want compares where a set-up is, and looks for words in what the checks of that step found.
func (s *settingUp) want(what string, c model.CloudSetup, step, state string, words ...string) {
	s.Helper()
	i := slices.Index(model.SetupSteps, step)
	if c.Next != step || len(c.Steps) != len(model.SetupSteps) || c.Steps[i].State != state {
		s.Errorf("%s: the next step is %q of %+v; want %s, %s", what, c.Next, c.Steps, step, state)
		return
	}
	for k, other := range c.Steps {
		if k < i && other.State != model.SetupPassed || k > i && other.State != model.SetupLocked {
			s.Errorf("%s: the step %s is %s", what, other.Step, other.State)
		}
	}
	s.found(what, c, step, words...)
}

func (s *settingUp) found(what string, c model.CloudSetup, step string, words ...string) {
	s.Helper()
	var found []string
	for _, f := range c.Steps[slices.Index(model.SetupSteps, step)].Checks {
		found = append(found, strings.Join([]string{string(f.Severity), f.Subject, f.Found, f.Remedy}, " "))
	}
	for _, w := range words {
		if !strings.Contains(strings.Join(found, "\n"), w) {
			s.Errorf("%s: nothing says %q:\n%s", what, w, strings.Join(found, "\n"))
		}
	}
}

func (s *settingUp) accounts() {
	s.Helper()
	for account, words := range map[string]string{"": "No cloud account is chosen", "nobody": "no server", "oak": "is a file server"} {
		state := model.SetupFailed
		if account == "" {
			state = model.SetupOpen
		}
		s.want("the account "+account, s.change(model.EditCloudSetup{Account: &account}), model.SetupAccount, state, words)
	}
	haar := "haar"
	c := s.change(model.EditCloudSetup{Account: &haar})
	s.want("an account", c, model.SetupBucket, model.SetupOpen, "No bucket is chosen")
	s.found("an account", c, model.SetupAccount, "accepted", "warn haar Prices are unknown", "without TLS")
}

func (s *settingUp) buckets() {
	s.Helper()
	name := func(bucket string) model.EditCloudSetup { return model.EditCloudSetup{Bucket: &bucket} }
	theirs := "taken-by-others"
	if _, err := s.api.CreateShare(s.Context(), "others", model.NewShare{Name: theirs}); err != nil {
		s.Fatal(err)
	}
	s.want("a bucket of others", s.change(name(theirs)), model.SetupBucket, model.SetupFailed, "Another account")
	c := s.change(name("scans-new"))
	s.want("a free name", c, model.SetupBucket, model.SetupOpen, "the name is free")
	if f := c.Steps[1].Checks[0]; f.Action == nil || f.Action.Do != finding.CreateBucket {
		s.Errorf("nothing creates it: %+v", f)
	}
	if _, err := s.api.CreateShare(s.Context(), "haar", model.NewShare{Name: "scans-new"}); err != nil {
		s.Fatal(err)
	}
	if err := s.sky.SetRetention("scans-new", 30); err != nil {
		s.Fatal(err)
	}
	s.want("a bucket with retention", s.change(name("scans-new")), model.SetupBucket, model.SetupFailed, "retains every object for 30 days")
	if err := s.sky.SetRetention("scans-new", 0); err != nil {
		s.Fatal(err)
	}
	narrow, haar := "narrow", "haar"
	s.want("a key without a right", s.change(model.EditCloudSetup{Account: &narrow}), model.SetupBucket, model.SetupFailed, "may not: delete objects")
	c = s.change(model.EditCloudSetup{Account: &haar})
	s.want("a bucket", c, model.SetupMovers, model.SetupOpen, "No server is chosen")
	s.found("a bucket", c, model.SetupBucket, "read, write and delete", "answers in")
}

// farRegion: a bucket in a region that answers later than that of another account gives a warning, with what it costs more.
func (s *settingUp) farRegion() {
	s.Helper()
	server := httptest.NewServer(s.sky.Region(standintest.FarRegion))
	s.Cleanup(server.Close)
	host, port := harness.SplitHostPort(s.T, strings.TrimPrefix(server.URL, "http://"))
	inland := s.account("inland", s.sky.Key)
	inland.Address, inland.Port = host, port
	inland.Cloud.Region, inland.Cloud.Currency, inland.Cloud.StoredPrice, inland.Cloud.OutPrice = standintest.FarRegion, "EUR", 0.03, 0.09
	if _, err := s.api.AddServer(s.Context(), inland); err != nil {
		s.Fatal(err)
	}
	haar, err := s.api.Server(s.Context(), "haar")
	if err != nil {
		s.Fatal(err)
	}
	haar.Cloud.Currency, haar.Cloud.StoredPrice, haar.Cloud.OutPrice = "EUR", 0.02, 0.1
	if _, err := s.api.EditServer(s.Context(), "haar", model.EditServer{Cloud: haar.Cloud}); err != nil {
		s.Fatal(err)
	}
	if _, err := s.api.CreateShare(s.Context(), "inland", model.NewShare{Name: "far-away"}); err != nil {
		s.Fatal(err)
	}
	if _, err := s.api.AddCloudSetup(s.Context(), model.NewCloudSetup{Name: "far", CloudDraft: model.CloudDraft{Account: "inland", Bucket: "far-away"}}); err != nil {
		s.Fatal(err)
	}
	c, err := s.api.CheckCloudSetup(s.Context(), "far")
	if err != nil {
		s.Fatal(err)
	}
	s.want("a far region", c, model.SetupMovers, model.SetupOpen)
	s.found("a far region", c, model.SetupBucket, "warn inland-1 inland-1 answers in", "and coast-1 (account haar)")
	i := slices.IndexFunc(c.Steps[1].Checks, func(f finding.Finding) bool { return f.Code == "region" })
	if i < 0 {
		s.Fatalf("nothing is said of the region: %+v", c.Steps[1].Checks)
	}
	if m := c.Steps[1].Checks[i].Meaning; !strings.Contains(m, "each request takes") || !strings.Contains(m, "1 GB stored costs +0.010 EUR a month, and 1 GB read -0.010 EUR") {
		s.Errorf("it means %q", m)
	}
}

// chosen are edges at servers, to be completed.
func chosen(edges ...model.DraftEdge) model.EditCloudSetup {
	return model.EditCloudSetup{Edges: &edges}
}

func (s *settingUp) movers() {
	s.Helper()
	s.want("a server that nobody knows", s.change(chosen(model.DraftEdge{Server: "nowhere"})), model.SetupMovers, model.SetupFailed, "no such server")
	s.want("a cloud as an edge", s.change(chosen(model.DraftEdge{Server: "others"})), model.SetupMovers, model.SetupFailed, "is a cloud account")
	c := s.change(chosen(model.DraftEdge{Server: "oak"}, model.DraftEdge{Server: "sedge"}))
	s.want("movers", c, model.SetupEdges, model.SetupOpen, "No folder is chosen")
	s.found("movers", c, model.SetupMovers, "pass sedge Its mover runs the build of this service", "pass sedge Its mover opens the bucket at", "pass oak Without a mover, it keeps whole files", "pass sedge Its mover is updated by hand")
}

func (s *settingUp) settings() {
	s.Helper()
	through, none, carried := model.PermissionsMap, "nothing", model.PermissionsCarry
	s.want("a map that nobody chose", s.change(model.EditCloudSetup{Permissions: &through}), model.SetupSettings, model.SetupOpen, "No account map")
	s.want("a map that is none", s.change(model.EditCloudSetup{AccountMap: &none}), model.SetupSettings, model.SetupFailed, "no account map")
	empty := ""
	s.want("settings", s.change(model.EditCloudSetup{Permissions: &carried, AccountMap: &empty}), model.SetupEdges, model.SetupOpen)
}

func (s *settingUp) edges() {
	s.Helper()
	oak := model.DraftEdge{Server: "oak", Share: "store", Seed: true}
	s.want("a share that is none", s.change(chosen(model.DraftEdge{Server: "oak", Share: "elsewhere"})), model.SetupEdges, model.SetupFailed, "fail oak", "no share")
	reed := model.DraftEdge{Server: "reed", Share: "beds"}
	s.want("the volume of the system", s.change(chosen(oak, reed)), model.SetupEdges, model.SetupFailed, "fail reed The folder is on the volume of the operating system")
	reed.SystemVolume = true
	c := s.change(chosen(oak, reed))
	s.want("the volume of the system, accepted", c, model.SetupPlan, model.SetupOpen)
	s.found("the volume of the system, accepted", c, model.SetupEdges, "warn reed")
	c = s.change(chosen(oak, model.DraftEdge{Server: "sedge", Share: "beds", Sub: "copies"}))
	s.want("edges", c, model.SetupPlan, model.SetupOpen, "not planned yet")
	s.found("edges", c, model.SetupEdges, "copies is created", "The content of oak wins")
}

func (s *settingUp) policies() {
	s.Helper()
	oak := model.DraftEdge{Server: "oak", Share: "store", Seed: true}
	with := func(server string, p model.EdgePolicy) model.CloudSetup {
		s.Helper()
		e := model.DraftEdge{Server: server, Share: "beds", Policy: &p, SystemVolume: true, IntakeQuota: 8 << 20}
		return s.change(chosen(oak, e))
	}
	s.want("stubs on the volume of the system", with("reed", model.EdgePolicy{Fill: model.FillNames}), model.SetupPolicies, model.SetupFailed, "cannot hold stubs")
	s.want("more newest files than the volume has", with("sedge", model.EdgePolicy{Fill: model.FillNames, FreePercent: 20, KeepNewest: 1 << 30}), model.SetupPolicies, model.SetupFailed, "newest files stay whole")
	c := with("sedge", model.EdgePolicy{Fill: model.FillNames})
	s.found("no line", c, model.SetupPolicies, "warn sedge No file becomes a stub")
	c = with("sedge", model.EdgePolicy{Fill: model.FillNames, FreePercent: 20, Never: []string{"*.db"}})
	s.want("a policy", c, model.SetupPlan, model.SetupOpen)
	s.found("a policy", c, model.SetupPolicies, "(20%) stay free", "Always whole: *.db")
	s.found("a policy", c, model.SetupFill, "oak Its files are uploaded", "sedge All names come first")
}

// page goes on with the set-up in the console: it can be left there, and is as it was.
func (s *settingUp) page() {
	s.Helper()
	b := startBrowser(s.T)
	tab := b.tab
	b.must(tab.Open(s.e.Base+"/"), tab.Type("Name", harness.Admin), tab.Type("Password", harness.Password), tab.Click("button", "Sign in"), tab.See("Latest changes"))
	b.must(tab.Open(s.e.Base+"/replicas"), tab.Click("link", "scans"), tab.See("Step 8 of 9: Plan"), tab.See("All names come first"))
	b.accessible("set-up")
	b.must(tab.Click("button", "Change step 6"), tab.Type("Free-space line, in percent of the volume", "101"), tab.Click("button", "Save and check"), tab.See("Must be at most 90"))
	b.accessible("set-up, with an error")
	b.must(tab.Type("Free-space line, in percent of the volume", "30"), tab.Click("button", "Save and check"), tab.See("(30%) stay free"), tab.See("Step 8 of 9: Plan"))
	b.must(tab.Click("button", "Change step 2"), tab.Type("Bucket", "scans-of-the-page"), tab.Click("button", "Save and check"), tab.See("the name is free"), tab.Click("button", "Create the bucket"), tab.See("The bucket is empty"), tab.See("Step 8 of 9: Plan"))
	if faults := tab.Faults(); len(faults) > 0 {
		s.Errorf("the console's own programs met %v", faults)
	}
	c, err := s.api.CloudSetup(s.Context(), "scans")
	if err != nil || c.Bucket != "scans-of-the-page" || c.Edges[1].Policy.FreePercent != 30 || len(c.Edges[1].Policy.Never) != 1 {
		s.Errorf("what was entered in the console: %+v, %v", c.CloudDraft, err)
	}
}

func (s *settingUp) planned() {
	s.Helper()
	_, err := s.api.StartCloudSetup(s.Context(), "scans")
	if err == nil || !strings.Contains(err.Error(), `"plan"`) {
		s.Errorf("it was started without a plan: %v", err)
	}
	quota := int64(1)
	s.change(model.EditCloudSetup{Quota: &quota})
	s.plan()
	c, err := s.api.CloudSetup(s.Context(), "scans")
	if err != nil {
		s.Fatal(err)
	}
	s.want("a quota that is too small", c, model.SetupPlan, model.SetupFailed, "may store 1 B")
	quota = 1 << 40
	c = s.change(model.EditCloudSetup{Quota: &quota})
	s.want("a quota", c, model.SetupStart, model.SetupOpen)
	s.found("a quota", c, model.SetupPlan, "that the account may store", "The first fill takes")
}

// plan plans the set, and waits for the end of that.
func (s *settingUp) plan() {
	s.Helper()
	p, err := s.api.PlanCloudSetup(s.Context(), "scans")
	if err != nil {
		s.Fatal(err)
	}
	await(s.T, "the plan", func() bool {
		p, err = s.api.ReplicaPlan(s.Context(), p.Run.ID)
		return err != nil || p.Run.State.Ended()
	})
	if err != nil || p.Run.State != model.RunDone || !p.CanCreate {
		s.Fatalf("%+v, %v", p, err)
	}
}

func (s *settingUp) started() {
	s.Helper()
	told := new(client.Rehearsed)
	if _, err := s.api.StartCloudSetup(client.Rehearse(s.Context()), "scans"); !errors.As(err, &told) || len(told.Changes) == 0 {
		s.Errorf("a rehearsal: %v", err)
	}
	if _, err := s.api.ReplicaSet(s.Context(), "scans"); err == nil {
		s.Error("a rehearsal created the set")
	}
	s.sky.Dials().Turn(cloud.Settings{Outage: true})
	if _, err := s.api.StartCloudSetup(s.Context(), "scans"); err == nil || !strings.Contains(err.Error(), `"account"`) {
		s.Errorf("started while the object service is away, which the checks before did not know: %v", err)
	}
	s.sky.Dials().Turn(cloud.Settings{})
	made, err := s.api.StartCloudSetup(s.Context(), "scans")
	if err != nil {
		s.Fatal(err)
	}
	set, err := s.api.AwaitReplicaSet(s.Context(), made, nil)
	if err != nil || !set.IsCloudSet() || len(set.Replicas) != 3 || set.Replicas[2].Edge.FreePercent != 30 || set.RemovalLimit != model.CloudRemovalLimit {
		s.Fatalf("%+v, %v", set, err)
	}
	if _, err := s.api.CloudSetup(s.Context(), "scans"); err == nil {
		s.Error("the set-up is still there")
	}
	await(s.T, "the first fill", func() bool {
		set, err = s.api.ReplicaSet(s.Context(), "scans")
		return err == nil && set.State == model.SetSteady
	})
	_, err = s.api.AddCloudSetup(s.Context(), model.NewCloudSetup{Name: "scans"})
	refused(s.T, "the name of a set", err, 409, "name")
	_, err = s.api.AddCloudSetup(s.Context(), model.NewCloudSetup{Name: "more scans", CloudDraft: model.CloudDraft{Account: "haar", Bucket: "scans-of-the-page", Edges: []model.DraftEdge{{Server: "oak"}}}})
	if err != nil {
		s.Fatal(err)
	}
	c, err := s.api.CheckCloudSetup(s.Context(), "more scans")
	if err != nil {
		s.Fatal(err)
	}
	s.want("the bucket of a set", c, model.SetupBucket, model.SetupFailed, "of the set scans")
	if err := s.api.RemoveCloudSetup(s.Context(), "more scans"); err != nil {
		s.Error(err)
	}
}
