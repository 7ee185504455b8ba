package e2e

import (
	"bytes"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/minio/minio-go/v7"

	"bridgespan/e2e/harness"
	"bridgespan/model"
	"bridgespan/mover/edge"
	"bridgespan/standin/standintest"
	"bridgespan/tree/bucket"
	"bridgespan/tree/bucket/seal"
)

// sealedSet is a cloud set whose bucket is sealed, with names: a share of oak with whole files, and a small volume on a host with a mover,
// with stubs.
type sealedSet struct {
	*testing.T
	e        *harness.Estate
	sky      *standintest.Sky
	bucket   bucket.Target
	mover    *harness.Mover
	files    map[string][]byte
	recovery model.RecoveryKey
}

const sealedFolder = "kept"

// TestSealedBucket keeps a sealed bucket and two edges the same: who has the bucket alone reads nothing, and people at the edges notice nothing.
func TestSealedBucket(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	standintest.Volume(t, folder, volumeSize)
	if _, err := edge.Supported(folder, edge.OnRead); err != nil {
		t.Skip(err)
	}
	s := &sealedSet{T: t, e: harness.StartEstate(t), sky: standintest.Cloud(t), files: map[string][]byte{}}
	s.bucket = s.sky.Bucket(t)
	s.mover = harness.StartMoverAt(t, folder)
	for _, n := range []model.NewServer{accountAt(t, s.sky, s.bucket), s.mover.NewServer("sedge", "Upland")} {
		if _, err := s.e.API.AddServer(t.Context(), n); err != nil {
			t.Fatal(err)
		}
	}
	var err error
	if s.recovery, err = s.e.API.MakeRecoveryKey(t.Context()); err != nil {
		t.Fatal(err)
	}
	s.refused()
	s.created()
	s.hidden()
	s.read()
	s.changed()
	s.copied()
	s.failures()
	s.verified()
	s.recoveryKeys()
	copied := s.opened()
	s.imported(copied)
}

// asked is the request for the set.
func (s *sealedSet) asked(how *model.Sealing) model.NewReplicaSet {
	return model.NewReplicaSet{Name: "scans", Layout: model.LayoutHub, Permissions: model.PermissionsLeave, Replicas: []model.NewReplica{{Server: "haar", Share: s.bucket.Bucket, Sub: sealedFolder, Sealing: how},
		{Server: "oak", Share: "store", Sub: "scans", Seed: true}, {Server: "sedge", Share: "beds", Edge: &model.EdgePolicy{Fill: model.FillStubs, WaitS: 1}}}, Retry: &model.Retry{FirstS: 1, MostS: 2, AlertAfter: 3}}
}

// refused: without a key that opens the files when all else is lost, nothing is sealed.
func (s *sealedSet) refused() {
	s.Helper()
	for what, keys := range map[string][]string{"a word": {"fern"}, "a private key": {s.recovery.Private}, "two in one": {s.recovery.Public + "\n" + s.recovery.Public}} {
		_, err := s.e.API.CreateReplicaSet(s.Context(), s.asked(&model.Sealing{RecoveryKeys: keys}), nil)
		refused(s.T, what, err, 422, "replicas[0].sealing.recoveryKeys")
		_, err = s.e.API.AddCloudSetup(s.Context(), model.NewCloudSetup{Name: "scans", CloudDraft: model.CloudDraft{Sealing: &model.Sealing{RecoveryKeys: keys}}})
		refused(s.T, what+" in a set-up", err, 422, "sealing.recoveryKeys")
	}
	_, err := s.e.API.CreateReplicaSet(s.Context(), s.asked(&model.Sealing{}), nil)
	refused(s.T, "no key", err, 422, "replicas[0].sealing.recoveryKeys")
	n := s.asked(nil)
	n.Replicas[1].Sealing = s.how()
	_, err = s.e.API.CreateReplicaSet(s.Context(), n, nil)
	refused(s.T, "a file server", err, 422, "replicas[1].sealing")
	if list, err := s.e.API.SealedFolders(s.Context()); err != nil || len(list) != 0 {
		s.Errorf("sealed are %+v, %v", list, err)
	}
}

func (s *sealedSet) how() *model.Sealing {
	return &model.Sealing{Names: true, RecoveryKeys: []string{s.recovery.Public}}
}

// put puts a file into the share of oak.
func (s *sealedSet) put(name string, content []byte) {
	s.Helper()
	(&clouded{T: s.T, e: s.e}).put(name, content, 1)
	s.files[name] = content
}

func (s *sealedSet) created() {
	s.Helper()
	for i := range 4 {
		s.put(fmt.Sprintf("orchids/site-%d.csv", i), bytes.Repeat([]byte{byte(i), 9}, 20_000+i))
	}
	s.put("orchids/map.tif", random(18<<20)) // in parts
	s.put("empty", nil)
	set, err := s.e.API.CreateReplicaSet(s.Context(), s.asked(s.how()), nil)
	if err != nil {
		s.Fatal(err)
	}
	if got := set.Replicas[0].Sealing; got == nil || !got.Names || !slices.Equal(got.RecoveryKeys, []string{s.recovery.Public}) {
		s.Errorf("the set is sealed as %+v", got)
	}
	await(s.T, "all names at the small edge", func() bool {
		set, err := s.e.API.ReplicaSet(s.Context(), "scans")
		return err == nil && set.State == model.SetSteady && set.Replicas[2].Filled && set.Replicas[2].EdgeFigures != nil && set.Replicas[2].EdgeFigures.Stubs == int64(len(s.files)-1)
	})
}

// objects are the keys of the files in the bucket: not those of folders, and not what Bridge Span keeps for itself.
func (s *sealedSet) objects() (keys []string) {
	s.Helper()
	for o := range s.sky.Client.ListObjectsIter(s.Context(), s.bucket.Bucket, minio.ListObjectsOptions{Recursive: true}) {
		if o.Err != nil {
			s.Fatal(o.Err)
		}
		if !strings.Contains(o.Key, "/.bspan/") && !strings.HasSuffix(o.Key, "/") {
			keys = append(keys, o.Key)
		}
	}
	return keys
}

// object is what others read of an object.
func (s *sealedSet) object(key string) []byte {
	s.Helper()
	body, _, _, err := s.sky.Client.GetObject(s.Context(), s.bucket.Bucket, key, minio.GetObjectOptions{})
	if err != nil {
		s.Fatal(err)
	}
	defer body.Close()
	content, err := io.ReadAll(body)
	if err != nil {
		s.Fatal(err)
	}
	return content
}

// hidden: neither names nor contents can be read in the bucket.
func (s *sealedSet) hidden() {
	s.Helper()
	keys := s.objects()
	for _, key := range keys {
		for _, word := range []string{"orchid", "site", "csv", "map", "empty"} {
			if strings.Contains(key, word) {
				s.Errorf("the key %s tells a name", key)
			}
		}
		content := s.object(key)
		if !bytes.HasPrefix(content, []byte("age-encryption.org/v1\n")) {
			s.Errorf("%s is not sealed", key)
		}
		if bytes.Contains(content, []byte{2, 9, 2, 9, 2, 9, 2, 9, 2, 9}) {
			s.Errorf("%s has its own content", key)
		}
	}
	if len(keys) != len(s.files) {
		s.Errorf("there are the objects %q for %d files", keys, len(s.files))
	}
}

// read: who reads a stub gets the true bytes, at any place.
func (s *sealedSet) read() {
	s.Helper()
	name := s.at("orchids/map.tif")
	want := s.files["orchids/map.tif"]
	f, err := os.Open(name)
	if err != nil {
		s.Fatal(err)
	}
	defer f.Close()
	piece := make([]byte, 100_000)
	if _, err := f.ReadAt(piece, 15<<20); err != nil || !bytes.Equal(piece, want[15<<20:15<<20+len(piece)]) {
		s.Errorf("the middle of a stub: %v", err)
	}
	for name, want := range s.files {
		if got, err := os.ReadFile(s.at(name)); err != nil || !bytes.Equal(got, want) {
			s.Errorf("%s at the edge: %d bytes, %v", name, len(got), err)
		}
	}
}

// changed: a change at one edge comes through the bucket to the other one, sealed.
func (s *sealedSet) changed() {
	s.Helper()
	news := []byte("a new site of the lady's slipper")
	if err := os.WriteFile(s.at("orchids/site-1.csv"), news, 0o644); err != nil {
		s.Fatal(err)
	}
	s.files["orchids/site-1.csv"] = news
	oak := harness.Tree(s.T, s.e.Oak, "store")
	defer oak.Close()
	await(s.T, "the change at oak", func() bool {
		c, err := oak.Open(s.Context(), "scans/orchids/site-1.csv")
		if err != nil {
			return false
		}
		defer c.Close()
		got, err := io.ReadAll(io.NewSectionReader(c, 0, c.Entry().Size))
		return err == nil && bytes.Equal(got, news)
	})
	for _, key := range s.objects() {
		if bytes.Contains(s.object(key), news) {
			s.Errorf("the change is not sealed in %s", key)
		}
	}
	if status := s.mover.Edge(s.T); status.Uploaded == 0 || status.UploadedBytes < int64(len(news)) {
		s.Errorf("the mover has encrypted %d files", status.Uploaded)
	}
}

// copied: a file that people copy at an edge is copied within the service, and nothing of it crosses.
func (s *sealedSet) copied() {
	s.Helper()
	content := random(3 << 20)
	if err := os.WriteFile(s.at("survey.dat"), content, 0o644); err != nil {
		s.Fatal(err)
	}
	s.files["survey.dat"] = content
	carried := func() (c model.Carried) {
		set, err := s.e.API.ReplicaSet(s.Context(), "scans")
		if err != nil {
			s.Fatal(err)
		}
		for _, l := range set.Lanes {
			if l.From == "sedge" {
				c = l.Carried
			}
		}
		return c
	}
	before := carried()
	await(s.T, "a new file in the bucket", func() bool { return carried().Bytes >= before.Bytes+int64(len(content)) })
	if out, err := exec.Command("cp", "-p", s.at("survey.dat"), s.at("orchids/survey again.dat")).CombinedOutput(); err != nil {
		s.Fatalf("%s: %v", out, err)
	}
	s.files["orchids/survey again.dat"] = content
	before = carried()
	await(s.T, "its copy in the bucket", func() bool { return carried().Files > before.Files && len(s.objects()) == len(s.files) })
	if after := carried(); after.Spared-before.Spared != int64(len(content)) {
		s.Errorf("of the copy, %d bytes were spared", after.Spared-before.Spared)
	}
}

// verified: every byte is compared, and nothing differs.
func (s *sealedSet) verified() {
	s.Helper()
	v := verified(s.T, s.e.API, "scans", "full", time.Minute)
	for _, r := range v.Replicas {
		if r.Counts.Unexplained() > 0 || r.Counts.Explained > 0 || r.Read == 0 {
			s.Errorf("%s: %+v", v.Verdict, r)
		}
	}
}

// recoveryKeys: other recovery keys open the key of the folder from then on, and its files stay as they are.
func (s *sealedSet) recoveryKeys() {
	s.Helper()
	list, err := s.e.API.SealedFolders(s.Context())
	if err != nil || len(list) != 1 || list[0].Set != "scans" || list[0].Folder != sealedFolder || !list[0].Names {
		s.Fatalf("sealed are %+v, %v", list, err)
	}
	refused(s.T, "the removal of a key in use", s.e.API.RemoveFolderKey(s.Context(), list[0].Recipient), 409, "")
	former := s.recovery
	if s.recovery, err = s.e.API.MakeRecoveryKey(s.Context()); err != nil {
		s.Fatal(err)
	}
	before := s.objects()
	if _, err := s.e.API.SetRecoveryKeys(s.Context(), list[0].Recipient, []string{s.recovery.Public}); err != nil {
		s.Fatal(err)
	}
	keyFile := s.object(sealedFolder + "/" + seal.KeyFile)
	if _, err := seal.Recover(keyFile, former.Private); err == nil {
		s.Error("the former recovery key opens the key of the folder")
	}
	if key, err := seal.Recover(keyFile, s.recovery.Private); err != nil || key.Recipient() != list[0].Recipient {
		s.Errorf("the recovery key opens %v, %v", key, err)
	}
	if after := s.objects(); !slices.Equal(before, after) {
		s.Errorf("the objects became %q", after)
	}
	if err := s.sky.Client.RemoveObject(s.Context(), s.bucket.Bucket, sealedFolder+"/"+seal.KeyFile, minio.RemoveObjectOptions{}); err != nil {
		s.Fatal(err)
	}
	if err := s.e.API.LookAtReplicas(s.Context(), "scans", "haar"); err != nil {
		s.Fatal(err)
	}
	await(s.T, "the key that somebody has removed", func() bool {
		_, err := s.sky.Client.StatObject(s.Context(), s.bucket.Bucket, sealedFolder+"/"+seal.KeyFile, minio.StatObjectOptions{})
		return err == nil
	})
}

// opened: with a copy of the bucket and a recovery key, all files are opened without the service.
func (s *sealedSet) opened() (key *seal.Key) {
	s.Helper()
	copied, to := s.TempDir(), filepath.Join(s.TempDir(), "opened")
	for o := range s.sky.Client.ListObjectsIter(s.Context(), s.bucket.Bucket, minio.ListObjectsOptions{Prefix: sealedFolder + "/", Recursive: true}) {
		name := filepath.Join(copied, strings.TrimPrefix(o.Key, sealedFolder+"/"))
		if strings.HasSuffix(o.Key, "/") {
			continue
		}
		if err := os.MkdirAll(filepath.Dir(name), 0o700); err != nil {
			s.Fatal(err)
		}
		if err := os.WriteFile(name, s.object(o.Key), 0o600); err != nil {
			s.Fatal(err)
		}
	}
	private := filepath.Join(s.TempDir(), "recovery.txt")
	if err := os.WriteFile(private, []byte(s.recovery.Private), 0o600); err != nil {
		s.Fatal(err)
	}
	cli := shell{harness.Program(s.T, "bspan"), s.TempDir()}
	out, complaint, code := cli.run(s.T, "", "cloud", "key", "open", copied, to, "--recovery-file", private)
	if code != 0 || !strings.Contains(out, fmt.Sprintf("opened %d files", len(s.files))) {
		s.Fatalf("exit %d: %s%s", code, out, complaint)
	}
	n := 0
	err := fs.WalkDir(os.DirFS(to), ".", func(name string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		n++
		if got, err := os.ReadFile(filepath.Join(to, name)); err != nil || !bytes.Equal(got, s.files[name]) {
			s.Errorf("%s is opened as %d bytes, %v", name, len(got), err)
		}
		return nil
	})
	if err != nil || n != len(s.files) {
		s.Errorf("%d files were opened, %v", n, err)
	}
	if key, err = seal.Recover(s.object(sealedFolder+"/"+seal.KeyFile), s.recovery.Private); err != nil {
		s.Fatal(err)
	}
	return key
}

// imported: a service that does not have the key refuses the folder, until the right key is imported.
func (s *sealedSet) imported(key *seal.Key) {
	s.Helper()
	if _, err := s.e.API.EditReplica(s.Context(), "scans", "sedge", model.EditReplica{Edge: &model.EdgePolicy{Fill: model.FillWhole}}); err != nil {
		s.Fatal(err)
	}
	await(s.T, "whole files", func() bool {
		set, err := s.e.API.ReplicaSet(s.Context(), "scans")
		return err == nil && set.Replicas[2].EdgeFigures != nil && set.Replicas[2].EdgeFigures.Stubs == 0
	})
	if err := s.e.API.RemoveReplicaSet(s.Context(), "scans"); err != nil {
		s.Fatal(err)
	}
	if err := s.e.API.RemoveFolderKey(s.Context(), key.Recipient()); err != nil {
		s.Fatal(err)
	}
	for _, how := range []*model.Sealing{nil, s.how()} {
		_, err := s.e.API.CreateReplicaSet(s.Context(), s.asked(how), nil)
		refused(s.T, "a folder that is sealed with an unknown key", err, 422, "replicas[0].sealing")
	}
	other, err := seal.NewKey()
	if err != nil {
		s.Fatal(err)
	}
	n := model.KeyImport{Server: "haar", Bucket: s.bucket.Bucket, Folder: sealedFolder, Sealing: *s.how(), Key: other.Identity()}
	_, err = s.e.API.ImportKey(s.Context(), n)
	refused(s.T, "another key", err, 422, "key")
	n.Key = s.recovery.Public
	_, err = s.e.API.ImportKey(s.Context(), n)
	refused(s.T, "a public key", err, 422, "key")
	n.Key = key.Identity()
	if _, err := s.e.API.ImportKey(s.Context(), n); err != nil {
		s.Fatal(err)
	}
	contents := s.asked(&model.Sealing{RecoveryKeys: n.RecoveryKeys})
	_, err = s.e.API.CreateReplicaSet(s.Context(), contents, nil)
	refused(s.T, "contents alone", err, 422, "replicas[0].sealing.names")
	set, err := s.e.API.CreateReplicaSet(s.Context(), s.asked(nil), nil)
	if err != nil || set.Replicas[0].Sealing == nil {
		s.Fatalf("again: %+v, %v", set.Replicas, err)
	}
	await(s.T, "the set with what was there", func() bool {
		set, err := s.e.API.ReplicaSet(s.Context(), "scans")
		return err == nil && set.State == model.SetSteady && set.Replicas[0].Filled && set.Replicas[2].Filled
	})
	if set, err = s.e.API.ReplicaSet(s.Context(), "scans"); err != nil {
		s.Fatal(err)
	}
	for _, l := range set.Lanes {
		if l.Carried.Bytes != 0 {
			s.Errorf("%s to %s carried %+v, though all was there", l.From, l.To, l.Carried)
		}
	}
	for name, want := range s.files {
		if got, err := os.ReadFile(s.at(name)); err != nil || !bytes.Equal(got, want) {
			s.Errorf("%s at the edge: %d bytes, %v", name, len(got), err)
		}
	}
}
