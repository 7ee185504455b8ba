package estate_test

import (
	"slices"
	"strings"
	"testing"

	"github.com/minio/minio-go/v7"

	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/standin/cloud"
	"bridgespan/tree"
	"bridgespan/tree/bucket/seal"
)

// sealing is an account with a folder that is sealed in some way.
type sealing struct {
	*testing.T
	clouded
	at  namespace.Target
	how model.Sealing
}

func startSealing(t *testing.T) sealing {
	t.Helper()
	public, _, err := seal.NewRecoveryKey()
	if err != nil {
		t.Fatal(err)
	}
	c := startClouded(t)
	if err := c.AddServer(c.ctx, c.account, c.secret, false); err != nil {
		t.Fatal(err)
	}
	return sealing{t, c, namespace.Target{Server: "haar", Share: c.bucket, Sub: "kept"}, model.Sealing{Names: true, RecoveryKeys: []string{public}}}
}

// keys are the objects in the bucket.
func (s sealing) keys() (keys []string) {
	s.Helper()
	for o := range s.sky.Client.Client.ListObjects(s.ctx, s.bucket, minio.ListObjectsOptions{Recursive: true}) {
		if o.Err != nil {
			s.Fatal(o.Err)
		}
		keys = append(keys, o.Key)
	}
	return keys
}

func (s sealing) sealed() []model.SealedFolder {
	s.Helper()
	list, err := s.SealedFolders(s.ctx)
	if err != nil {
		s.Fatal(err)
	}
	return list
}

// put writes a file with the sealing that the folder has.
func (s sealing) put(name, content string) {
	s.Helper()
	t, err := s.Open(s.ctx, s.at)
	if err != nil {
		s.Fatal(err)
	}
	defer t.Close()
	if _, err := t.Put(s.ctx, name, strings.NewReader(content), tree.PutOptions{}); err != nil {
		s.Fatal(err)
	}
}

// A folder is sealed once. That is undone as long as no file is in it.
func TestSealFolder(t *testing.T) {
	s := startSealing(t)
	ctx, rehearsal := records.Rehearse(s.ctx)
	if err := s.SealFolder(ctx, s.at, s.how); err != nil || len(rehearsal.Changes()) != 1 || len(s.sealed()) != 0 || len(s.keys()) != 0 {
		t.Errorf("rehearsed: %+v, %v, %+v, %q", rehearsal.Changes(), err, s.sealed(), s.keys())
	}
	for range 2 {
		if err := s.SealFolder(s.ctx, s.at, s.how); err != nil {
			t.Fatal(err)
		}
	}
	if got := s.sealed(); len(got) != 1 || got[0].By != "tester" || got[0].Set != "" || !got[0].Names || !slices.Equal(s.keys(), []string{"kept/" + seal.KeyFile}) {
		t.Errorf("sealed are %+v, with %q", got, s.keys())
	}
	if err := s.Unseal(s.ctx, s.at); err != nil || len(s.sealed()) != 0 || len(s.keys()) != 0 {
		t.Errorf("taken back: %v, %+v, %q", err, s.sealed(), s.keys())
	}
	if err := s.SealFolder(s.ctx, s.at, s.how); err != nil {
		t.Fatal(err)
	}
	s.put("fern.txt", "a fern")
	if err := s.Unseal(s.ctx, s.at); err != nil || len(s.sealed()) != 1 || len(s.keys()) != 2 {
		t.Errorf("with a file, it was taken back: %v, %+v, %q", err, s.sealed(), s.keys())
	}
	if how, err := s.CheckSealing(s.ctx, "sealing", s.at, nil); err != nil || how == nil || !how.Names {
		t.Errorf("it is sealed as %+v, %v", how, err)
	}
	_, err := s.CheckSealing(s.ctx, "sealing", s.at, &model.Sealing{RecoveryKeys: s.how.RecoveryKeys})
	wantField(t, "contents alone", err, "sealing.names")
}

// A key file that somebody has removed is put back, and one that cannot be written is written by the next try.
func TestKeyFile(t *testing.T) {
	s := startSealing(t)
	if err := s.sky.SetQuota(s.bucket, 10); err != nil {
		t.Fatal(err)
	}
	if err := s.SealFolder(s.ctx, s.at, s.how); err == nil || len(s.keys()) != 0 {
		t.Errorf("without room: %v, %q", err, s.keys())
	}
	if err := s.sky.SetQuota(s.bucket, 0); err != nil {
		t.Fatal(err)
	}
	file := []string{"kept/" + seal.KeyFile}
	if err := s.SealFolder(s.ctx, s.at, s.how); err != nil || len(s.sealed()) != 1 || !slices.Equal(s.keys(), file) {
		t.Errorf("again: %v, %+v, %q", err, s.sealed(), s.keys())
	}
	if err := s.sky.Client.RemoveObject(s.ctx, s.bucket, file[0], minio.RemoveObjectOptions{}); err != nil {
		t.Fatal(err)
	}
	if err := s.KeepKeyFile(s.ctx, s.at); err != nil || !slices.Equal(s.keys(), file) {
		t.Errorf("put back: %v, %q", err, s.keys())
	}
	f := s.sealed()[0]
	wantField(t, "no recovery key", s.SetRecoveryKeys(s.ctx, f.Recipient, f.Version, nil), "recoveryKeys")
	if err := s.SetRecoveryKeys(s.ctx, f.Recipient, f.Version+1, f.RecoveryKeys); fault.KindOf(err) != fault.Stale {
		t.Errorf("of an old version: %v", err)
	}
	s.sky.Dials().Turn(cloud.Settings{Outage: true})
	if err := s.SetRecoveryKeys(s.ctx, f.Recipient, f.Version, f.RecoveryKeys); fault.KindOf(err) != fault.Unavailable {
		t.Errorf("while the bucket is away: %v", err)
	}
}

// A key is imported when it opens a file of the folder, as it was sealed.
func TestImportKey(t *testing.T) {
	s := startSealing(t)
	key, err := seal.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	n := model.KeyImport{Server: "haar", Bucket: s.bucket, Folder: "kept", Sealing: s.how, Key: key.Identity()}
	_, err = s.ImportKey(s.ctx, n)
	wantField(t, "a folder without files", err, "key")
	if err := s.SealFolder(s.ctx, s.at, s.how); err != nil {
		t.Fatal(err)
	}
	s.put("fern.txt", "a fern")
	_, err = s.ImportKey(s.ctx, n)
	wantField(t, "a folder whose key is known", err, "folder")
	if err := s.RemoveKey(s.ctx, s.sealed()[0].Recipient, s.sealed()[0].Version); err != nil {
		t.Fatal(err)
	}
	_, err = s.ImportKey(s.ctx, n)
	wantField(t, "another key", err, "key")
	n.Sealing.Names = false
	_, err = s.ImportKey(s.ctx, n)
	wantField(t, "without names", err, "key")
	if got := s.sealed(); len(got) != 0 {
		t.Errorf("imported are %+v", got)
	}
}
