package edge

import (
	"encoding/json"
	"errors"
	"io/fs"
	"strings"
	"testing"

	"bridgespan/standin/standintest"
	"bridgespan/tree"
	"bridgespan/tree/bucket/seal"
)

// A mover that knows of sealing reads contents; one that does not is given no secret, so that it cannot open the bucket.
func TestSealedBucket(t *testing.T) {
	key, err := seal.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	target := standintest.Cloud(t).Bucket(t)
	key = key.WithNames()
	target.Seal = key
	if _, err := standintest.OpenBucket(t, target).Put(t.Context(), "fern.txt", strings.NewReader("a fern"), tree.PutOptions{}); err != nil {
		t.Fatal(err)
	}
	b := Bucket{Endpoint: target.Endpoint, Plain: true, Region: target.Region, Bucket: target.Bucket, PathStyle: true, Key: target.Key, Secret: target.Secret}
	b.SealWith(key)
	text, err := json.Marshal(b)
	if err != nil {
		t.Fatal(err)
	}
	var told Bucket
	if err := json.Unmarshal(text, &told); err != nil {
		t.Fatal(err)
	}
	source, err := told.open(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer source.Close()
	if got, err := tree.ReadFile(t.Context(), source, "fern.txt"); err != nil || string(got) != "a fern" {
		t.Errorf("read %q, %v", got, err)
	}
	told.Seal = nil // as it is to a mover that does not know the field
	if old, err := told.open(t.Context()); !errors.Is(err, fs.ErrPermission) {
		t.Errorf("without the field: %v", err)
		if old != nil {
			old.Close()
		}
	}
	told.Seal = &Seal{Key: "AGE-SECRET-KEY-1X", Secret: target.Secret}
	if _, err := told.open(t.Context()); !errors.Is(err, fs.ErrInvalid) || strings.Contains(err.Error(), "KEY-1X") {
		t.Errorf("with a wrong key: %v", err)
	}
}
