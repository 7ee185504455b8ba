package bucket_test

import (
	"slices"
	"strings"
	"testing"

	"github.com/minio/minio-go/v7"

	"bridgespan/standin/cloud"
	"bridgespan/standin/standintest"
	"bridgespan/tree/bucket"
)

// Each right that a key lacks is found by trying, and nothing is left behind.
func TestMissingRights(t *testing.T) {
	for name, c := range map[string]struct {
		rights []cloud.Right
		want   []string
	}{
		"all":        {cloud.AllRights, nil},
		"no removal": {[]cloud.Right{cloud.Lists, cloud.Reads, cloud.Writes}, []string{bucket.RightDelete}},
		"reads only": {[]cloud.Right{cloud.Lists, cloud.Reads}, []string{bucket.RightWrite, bucket.RightUpload, bucket.RightDelete}},
		"no listing": {[]cloud.Right{cloud.Reads, cloud.Writes, cloud.Deletes}, []string{bucket.RightList}},
		"no reading": {[]cloud.Right{cloud.Lists, cloud.Writes, cloud.Deletes}, []string{bucket.RightRead}},
	} {
		t.Run(name, func(t *testing.T) {
			sky := standintest.CloudOf(t, cloud.Key{ID: "narrow", Secret: "another secret of the trust", Account: "trust", Rights: c.rights})
			at := sky.Bucket(t)
			at.Key, at.Secret = "narrow", "another secret of the trust"
			b := standintest.OpenBucket(t, at)
			missing, err := b.MissingRights(t.Context())
			if err != nil || !slices.Equal(missing, c.want) {
				t.Errorf("%v are missing, %v; want %v", missing, err, c.want)
			}
			for o := range sky.Client.Client.ListObjects(t.Context(), at.Bucket, minio.ListObjectsOptions{Recursive: true}) {
				if slices.Contains(c.rights, cloud.Deletes) {
					t.Errorf("%s was left behind", o.Key)
				}
			}
		})
	}
}

func TestRetention(t *testing.T) {
	sky := standintest.Cloud(t)
	at := sky.Bucket(t)
	b := standintest.OpenBucket(t, at)
	if days, err := b.Retention(t.Context()); days != 0 || err != nil {
		t.Errorf("without retention: %d, %v", days, err)
	}
	if err := sky.SetRetention(at.Bucket, 30); err != nil {
		t.Fatal(err)
	}
	if days, err := b.Retention(t.Context()); days != 30 || err != nil {
		t.Errorf("%d days, %v", days, err)
	}
	put, err := sky.Client.PutObject(t.Context(), at.Bucket, "kept", strings.NewReader("kept"), 4, "", "", minio.PutObjectOptions{})
	if err != nil {
		t.Fatal(err)
	}
	if err := sky.Client.RemoveObject(t.Context(), at.Bucket, "kept", minio.RemoveObjectOptions{VersionID: put.VersionID}); minio.ToErrorResponse(err).Code != "AccessDenied" {
		t.Errorf("a retained version was removed: %v", err)
	}
	if delay, err := b.Ping(t.Context()); err != nil || delay <= 0 {
		t.Errorf("a request took %s, %v", delay, err)
	}
}
