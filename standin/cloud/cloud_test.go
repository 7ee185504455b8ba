package cloud

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
	"github.com/minio/minio-go/v7/pkg/tags"
)

// testKeys are those of two accounts; the last may read alone.
var testKeys = []Key{
	{ID: "trust-key", Secret: "a secret of the trust", Account: "trust", Rights: AllRights},
	{ID: "other-key", Secret: "a secret of others", Account: "other", Rights: AllRights},
	{ID: "reader-key", Secret: "a secret of a reader", Account: "trust", Rights: []Right{Reads, Lists}},
}

// sky is a cloud with one region, and what a test needs of it.
type sky struct {
	*Cloud
	t        *testing.T
	endpoint string
}

func start(t *testing.T) *sky {
	t.Helper()
	c, err := Open(Config{Dir: t.TempDir(), Keys: testKeys, Regions: []Region{{Name: "coast-1"}}})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Close() })
	server := httptest.NewServer(c.Region("coast-1"))
	t.Cleanup(server.Close)
	return &sky{c, t, strings.TrimPrefix(server.URL, "http://")}
}

// client speaks for a key; change alters how.
func (s *sky) client(key Key, change ...func(*minio.Options)) *minio.Core {
	s.t.Helper()
	o := &minio.Options{Creds: credentials.NewStaticV4(key.ID, key.Secret, ""), Region: "coast-1", BucketLookup: minio.BucketLookupPath, MaxRetries: 1}
	for _, c := range change {
		c(o)
	}
	client, err := minio.NewCore(s.endpoint, o)
	if err != nil {
		s.t.Fatal(err)
	}
	return client
}

// trust is a client of the trust, with a bucket "files".
func (s *sky) trust() *minio.Core {
	s.t.Helper()
	client := s.client(testKeys[0])
	if err := client.MakeBucket(s.t.Context(), "files", minio.MakeBucketOptions{Region: "coast-1"}); err != nil {
		s.t.Fatal(err)
	}
	return client
}

func (s *sky) put(client *minio.Core, key, text string, o minio.PutObjectOptions) minio.UploadInfo {
	s.t.Helper()
	info, err := client.Client.PutObject(s.t.Context(), "files", key, strings.NewReader(text), int64(len(text)), o)
	if err != nil {
		s.t.Fatalf("%s: %v", key, err)
	}
	return info
}

// wantCode fails unless an error has a code of the service.
func wantCode(t *testing.T, what string, err error, code string) {
	t.Helper()
	if got := minio.ToErrorResponse(err).Code; err == nil || got != code {
		t.Errorf("%s: %v (%s), want %s", what, err, got, code)
	}
}

func contentOf(t *testing.T, client *minio.Core, key string, o minio.GetObjectOptions) string {
	t.Helper()
	r, _, _, err := client.GetObject(t.Context(), "files", key, o)
	if err != nil {
		return minio.ToErrorResponse(err).Code
	}
	defer r.Close()
	text, err := io.ReadAll(r)
	if err != nil {
		t.Error(err)
	}
	return string(text)
}

func TestObjects(t *testing.T) {
	s := start(t)
	client := s.trust()
	meta := map[string]string{"Hash": "abc", "Note": "ferns and mosses"}
	info := s.put(client, "beds/fern.txt", "a fern", minio.PutObjectOptions{UserMetadata: meta, ContentType: "text/plain"})
	got, err := client.StatObject(t.Context(), "files", "beds/fern.txt", minio.StatObjectOptions{})
	if err != nil || got.Size != 6 || got.ETag != info.ETag || got.UserMetadata["Hash"] != "abc" || got.UserMetadata["Note"] != "ferns and mosses" || got.ContentType != "text/plain" {
		t.Errorf("it is %+v, %v", got, err)
	}
	if text := contentOf(t, client, "beds/fern.txt", minio.GetObjectOptions{}); text != "a fern" {
		t.Errorf("it holds %q", text)
	}
	for spec, want := range map[string]string{"bytes=2-3": "fe", "bytes=2-": "fern", "bytes=-3": "ern", "bytes=4-99": "rn", "bytes=6-": "InvalidRange", "bytes=x": "a fern"} {
		var o minio.GetObjectOptions
		o.Set("Range", spec)
		if text := contentOf(t, client, "beds/fern.txt", o); text != want {
			t.Errorf("%s is %q, want %q", spec, text, want)
		}
	}
	if text := contentOf(t, client, "nothing", minio.GetObjectOptions{}); text != "NoSuchKey" {
		t.Errorf("what is not there: %q", text)
	}
	if err := client.RemoveObject(t.Context(), "files", "beds/fern.txt", minio.RemoveObjectOptions{}); err != nil {
		t.Error(err)
	}
	if err := client.RemoveObject(t.Context(), "files", "beds/fern.txt", minio.RemoveObjectOptions{}); err != nil {
		t.Errorf("once more: %v", err)
	}
	if text := contentOf(t, client, "beds/fern.txt", minio.GetObjectOptions{}); text != "NoSuchKey" {
		t.Errorf("removed, it holds %q", text)
	}
	if used, _, err := s.Usage("files"); err != nil || used != 0 {
		t.Errorf("the bucket holds %d bytes, %v", used, err)
	}
}

func TestConditions(t *testing.T) {
	s := start(t)
	client := s.trust()
	put := func(key string, set func(*minio.PutObjectOptions)) error {
		var o minio.PutObjectOptions
		set(&o)
		_, err := client.Client.PutObject(t.Context(), "files", key, strings.NewReader("new"), 3, o)
		return err
	}
	old := s.put(client, "there", "old", minio.PutObjectOptions{})
	wantCode(t, "a new one where one is", put("there", func(o *minio.PutObjectOptions) { o.SetMatchETagExcept("*") }), "PreconditionFailed")
	wantCode(t, "in the place of another", put("there", func(o *minio.PutObjectOptions) { o.SetMatchETag("0123") }), "PreconditionFailed")
	wantCode(t, "in the place of nothing", put("nothing", func(o *minio.PutObjectOptions) { o.SetMatchETag(old.ETag) }), "NoSuchKey")
	if text := contentOf(t, client, "there", minio.GetObjectOptions{}); text != "old" {
		t.Errorf("it holds %q", text)
	}
	if err := put("there", func(o *minio.PutObjectOptions) { o.SetMatchETag(old.ETag) }); err != nil {
		t.Error(err)
	}
	if err := put("fresh", func(o *minio.PutObjectOptions) { o.SetMatchETagExcept("*") }); err != nil {
		t.Error(err)
	}
	var o minio.GetObjectOptions
	if err := o.SetMatchETag(old.ETag); err != nil {
		t.Fatal(err)
	}
	if text := contentOf(t, client, "there", o); text != "PreconditionFailed" {
		t.Errorf("read as the old one: %q", text)
	}
}

func TestLists(t *testing.T) {
	s := start(t)
	client := s.trust()
	var want []string
	for i := range 25 {
		key := fmt.Sprintf("beds/%02d/plant ü", i)
		s.put(client, key, "x", minio.PutObjectOptions{})
		want = append(want, key)
	}
	s.put(client, "zinnia", "x", minio.PutObjectOptions{})
	list := func(o minio.ListObjectsOptions) (names []string) {
		o.MaxKeys = 7
		for item := range client.Client.ListObjects(t.Context(), "files", o) {
			if item.Err != nil {
				t.Fatal(item.Err)
			}
			names = append(names, item.Key)
		}
		slices.Sort(names) // a page holds names first, and then what stands together
		return names
	}
	for _, first := range []bool{false, true} {
		if got := list(minio.ListObjectsOptions{Recursive: true, UseV1: first}); !slices.Equal(got, append(slices.Clone(want), "zinnia")) {
			t.Errorf("all: %q", got)
		}
		if got := list(minio.ListObjectsOptions{UseV1: first}); !slices.Equal(got, []string{"beds/", "zinnia"}) {
			t.Errorf("at the top: %q", got)
		}
		if got := list(minio.ListObjectsOptions{Prefix: "beds/", UseV1: first}); len(got) != 25 || got[24] != "beds/24/" {
			t.Errorf("in beds: %q", got)
		}
		if got := list(minio.ListObjectsOptions{Prefix: "beds/2", Recursive: true, UseV1: first}); !slices.Equal(got, want[20:]) {
			t.Errorf("with a prefix: %q", got)
		}
	}
	if got := list(minio.ListObjectsOptions{Recursive: true, StartAfter: want[22]}); !slices.Equal(got, []string{want[23], want[24], "zinnia"}) {
		t.Errorf("after one: %q", got)
	}
	s.Dials().Turn(Settings{Stale: time.Hour})
	if got := list(minio.ListObjectsOptions{Recursive: true}); len(got) != 0 {
		t.Errorf("a stale list holds %q", got)
	}
}

// five is a part of the least length.
var five = bytes.Repeat([]byte("plant"), 1<<20)

func TestUploadInParts(t *testing.T) {
	s := start(t)
	client := s.trust()
	begin := func() string {
		id, err := client.NewMultipartUpload(t.Context(), "files", "large", minio.PutObjectOptions{UserMetadata: map[string]string{"Hash": "xyz"}})
		if err != nil {
			t.Fatal(err)
		}
		return id
	}
	part := func(id string, number int, text []byte) minio.CompletePart {
		p, err := client.PutObjectPart(t.Context(), "files", "large", id, number, bytes.NewReader(text), int64(len(text)), minio.PutObjectPartOptions{})
		if err != nil {
			t.Fatal(err)
		}
		return minio.CompletePart{PartNumber: number, ETag: p.ETag}
	}
	complete := func(id string, parts ...minio.CompletePart) error {
		_, err := client.CompleteMultipartUpload(t.Context(), "files", "large", id, parts, minio.PutObjectOptions{})
		return err
	}
	id := begin()
	one, two, small := part(id, 1, five), part(id, 2, five), part(id, 3, []byte("end"))
	wantCode(t, "parts out of order", complete(id, two, one), "InvalidPartOrder")
	wantCode(t, "a short part inside", complete(id, one, small, part(id, 4, five)), "EntityTooSmall")
	wantCode(t, "a part that never came", complete(id, one, minio.CompletePart{PartNumber: 9, ETag: one.ETag}), "InvalidPart")
	wantCode(t, "a part of another content", complete(id, one, minio.CompletePart{PartNumber: 2, ETag: small.ETag}), "InvalidPart")
	listed, err := client.ListObjectParts(t.Context(), "files", "large", id, 1, 2)
	if err != nil || !listed.IsTruncated || len(listed.ObjectParts) != 2 || listed.ObjectParts[0].PartNumber != 2 || listed.ObjectParts[0].Size != int64(len(five)) {
		t.Errorf("of the parts: %+v, %v", listed, err)
	}
	if text := contentOf(t, client, "large", minio.GetObjectOptions{}); text != "NoSuchKey" {
		t.Error("it is seen before it is complete")
	}
	if err := complete(id, one, two, small); err != nil {
		t.Fatal(err)
	}
	got, err := client.StatObject(t.Context(), "files", "large", minio.StatObjectOptions{})
	if err != nil || got.Size != int64(2*len(five)+3) || !strings.HasSuffix(got.ETag, "-3") || got.UserMetadata["Hash"] != "xyz" {
		t.Errorf("it is %+v, %v", got, err)
	}
	wantCode(t, "completed twice", complete(id, one, two, small), "NoSuchUpload")

	left := begin()
	part(left, 1, five)
	uploads, err := client.ListMultipartUploads(t.Context(), "files", "", "", "", "", 10)
	if err != nil || len(uploads.Uploads) != 1 || uploads.Uploads[0].UploadID != left {
		t.Errorf("uploads that are open: %+v, %v", uploads, err)
	}
	if err := client.AbortMultipartUpload(t.Context(), "files", "large", left); err != nil {
		t.Error(err)
	}
	if files := s.files(); files != 1 {
		t.Errorf("%d contents are kept, of one object", files)
	}
}

// files is how many contents are kept.
func (s *sky) files() int {
	s.t.Helper()
	list, err := s.store.contents()
	if err != nil {
		s.t.Fatal(err)
	}
	return len(list)
}

func TestCopies(t *testing.T) {
	s := start(t)
	client := s.trust()
	s.put(client, "a b/ü", "content", minio.PutObjectOptions{UserMetadata: map[string]string{"Hash": "one"}})
	to := func(name string, meta map[string]string) error {
		_, err := client.Client.CopyObject(t.Context(), minio.CopyDestOptions{Bucket: "files", Object: name, UserMetadata: meta, ReplaceMetadata: meta != nil}, minio.CopySrcOptions{Bucket: "files", Object: "a b/ü"})
		return err
	}
	if err := to("copy", nil); err != nil {
		t.Fatal(err)
	}
	wantCode(t, "over itself without a change", to("a b/ü", nil), "InvalidRequest")
	if err := to("a b/ü", map[string]string{"Hash": "two"}); err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]string{"copy": "one", "a b/ü": "two"} {
		got, err := client.StatObject(t.Context(), "files", name, minio.StatObjectOptions{})
		if err != nil || got.UserMetadata["Hash"] != want || contentOf(t, client, name, minio.GetObjectOptions{}) != "content" {
			t.Errorf("%s is %+v, %v", name, got, err)
		}
	}
}

func TestVersions(t *testing.T) {
	s := start(t)
	client := s.trust()
	s.put(client, "f", "zero", minio.PutObjectOptions{})
	if err := client.EnableVersioning(t.Context(), "files"); err != nil {
		t.Fatal(err)
	}
	one := s.put(client, "f", "one", minio.PutObjectOptions{})
	s.put(client, "f", "two", minio.PutObjectOptions{})
	if err := client.RemoveObject(t.Context(), "files", "f", minio.RemoveObjectOptions{}); err != nil {
		t.Fatal(err)
	}
	if text := contentOf(t, client, "f", minio.GetObjectOptions{}); text != "NoSuchKey" {
		t.Errorf("removed, it holds %q", text)
	}
	if text := contentOf(t, client, "f", minio.GetObjectOptions{VersionID: one.VersionID}); text != "one" {
		t.Errorf("its earlier version holds %q", text)
	}
	var seen []string
	var mark string
	for o := range client.Client.ListObjects(t.Context(), "files", minio.ListObjectsOptions{WithVersions: true, Recursive: true}) {
		seen = append(seen, fmt.Sprintf("%d %v %v", o.Size, o.IsLatest, o.IsDeleteMarker))
		if o.IsDeleteMarker {
			mark = o.VersionID
		}
	}
	if want := []string{"0 true true", "3 false false", "3 false false", "4 false false"}; !slices.Equal(seen, want) {
		t.Errorf("versions are %q, want %q", seen, want)
	}
	if err := client.RemoveObject(t.Context(), "files", "f", minio.RemoveObjectOptions{VersionID: mark}); err != nil {
		t.Fatal(err)
	}
	if text := contentOf(t, client, "f", minio.GetObjectOptions{}); text != "two" {
		t.Errorf("with its mark removed it holds %q", text)
	}
	wantCode(t, "removing a bucket with versions", client.Client.RemoveBucket(t.Context(), "files"), "BucketNotEmpty")
}

func TestDeleteMany(t *testing.T) {
	s := start(t)
	client := s.trust()
	gone := make(chan minio.ObjectInfo, 30)
	for i := range 30 {
		key := fmt.Sprint("f", i)
		s.put(client, key, "x", minio.PutObjectOptions{})
		gone <- minio.ObjectInfo{Key: key}
	}
	close(gone)
	for e := range client.Client.RemoveObjects(t.Context(), "files", gone, minio.RemoveObjectsOptions{}) {
		t.Error(e)
	}
	if s.files() != 0 {
		t.Errorf("%d contents are left", s.files())
	}
	if err := client.Client.RemoveBucket(t.Context(), "files"); err != nil {
		t.Error(err)
	}
}

// Who is not who they say, or may not, is refused with the code of real services.
func TestRefusals(t *testing.T) {
	s := start(t)
	client := s.trust()
	s.put(client, "f", "x", minio.PutObjectOptions{})
	stat := func(c *minio.Core) error {
		_, _, _, err := c.GetObject(t.Context(), "files", "f", minio.GetObjectOptions{})
		return err
	}
	wrong := testKeys[0]
	wrong.Secret = "another"
	wantCode(t, "a wrong secret", stat(s.client(wrong)), "SignatureDoesNotMatch")
	wrong.ID = "nobody"
	wantCode(t, "an unknown key", stat(s.client(wrong)), "InvalidAccessKeyId")
	wantCode(t, "another account", stat(s.client(testKeys[1])), "AccessDenied")
	wantCode(t, "another region", stat(s.client(testKeys[0], func(o *minio.Options) { o.Region = "inland-1" })), "AuthorizationHeaderMalformed")
	reader := s.client(testKeys[2])
	if err := stat(reader); err != nil {
		t.Errorf("a reader: %v", err)
	}
	_, err := reader.Client.PutObject(t.Context(), "files", "f", strings.NewReader("y"), 1, minio.PutObjectOptions{})
	wantCode(t, "a reader writes", err, "AccessDenied")
	wantCode(t, "a reader makes a bucket", reader.MakeBucket(t.Context(), "mine", minio.MakeBucketOptions{Region: "coast-1"}), "AccessDenied")
	wantCode(t, "a name that is taken", s.client(testKeys[1]).MakeBucket(t.Context(), "files", minio.MakeBucketOptions{Region: "coast-1"}), "BucketAlreadyExists")
	wantCode(t, "one's own once more", client.MakeBucket(t.Context(), "files", minio.MakeBucketOptions{Region: "coast-1"}), "BucketAlreadyOwnedByYou")
	some, err := tags.NewTags(map[string]string{"a": "b"}, true)
	if err != nil {
		t.Fatal(err)
	}
	wantCode(t, "what is not played", client.PutObjectTagging(t.Context(), "files", "f", some, minio.PutObjectTaggingOptions{}), "NotImplemented")
	_, err = client.GetBucketLifecycle(t.Context(), "files")
	wantCode(t, "a configuration that no bucket has", err, "NoSuchLifecycleConfiguration")
	wantCode(t, "a configuration that is not played", client.SetBucketPolicy(t.Context(), "files", "{}"), "NotImplemented")
	_, err = client.Client.PutObject(t.Context(), "files", "f", strings.NewReader("y"), 1, minio.PutObjectOptions{UserMetadata: map[string]string{"long": strings.Repeat("x", 2048)}})
	wantCode(t, "much metadata", err, "MetadataTooLarge")
	_, err = client.Client.PutObject(t.Context(), "files", strings.Repeat("k", 1025), strings.NewReader("y"), 1, minio.PutObjectOptions{})
	if err == nil {
		t.Error("a key that is too long is taken")
	}
	if err := s.SetQuota("files", 5); err != nil {
		t.Fatal(err)
	}
	_, err = client.Client.PutObject(t.Context(), "files", "g", strings.NewReader("12345"), 5, minio.PutObjectOptions{})
	wantCode(t, "over the quota", err, "QuotaExceeded")
	s.put(client, "f", "12345", minio.PutObjectOptions{})
}

// Content that is changed in transit is refused, however it is protected, and nothing of it is kept.
func TestAlteredInTransit(t *testing.T) {
	s := start(t)
	s.trust()
	const text = "a precious plant"
	put := func(o minio.PutObjectOptions) func(*minio.Core) error {
		return func(c *minio.Core) error {
			_, err := c.Client.PutObject(t.Context(), "files", "f", strings.NewReader(text), int64(len(text)), o)
			return err
		}
	}
	for name, c := range map[string]struct {
		options func(*minio.Options)
		put     func(*minio.Core) error
	}{
		"signed chunks": {put: put(minio.PutObjectOptions{})},
		"MD5":           {put: put(minio.PutObjectOptions{SendContentMd5: true, DisableContentSha256: true})},
		"trailing checksum": {
			options: func(o *minio.Options) { o.TrailingHeaders = true },
			put:     put(minio.PutObjectOptions{}),
		},
		"SHA-256": {put: func(c *minio.Core) error {
			_, err := c.PutObject(t.Context(), "files", "f", strings.NewReader(text), int64(len(text)), "", hexHash(text), minio.PutObjectOptions{})
			return err
		}},
	} {
		for _, alter := range []bool{false, true} {
			client := s.client(testKeys[0], func(o *minio.Options) {
				if c.options != nil {
					c.options(o)
				}
				o.Transport = altering{alter}
			})
			if err := c.put(client); alter == (err == nil) {
				t.Errorf("%s, altered %v: %v", name, alter, err)
			}
		}
	}
	if s.files() != 1 {
		t.Errorf("%d contents are kept, of one object", s.files())
	}
}

// altering is a transport that changes one word of each request's content.
type altering struct{ on bool }

func (a altering) RoundTrip(r *http.Request) (*http.Response, error) {
	if a.on && r.Body != nil {
		text, err := io.ReadAll(r.Body)
		if err != nil {
			return nil, err
		}
		r.Body = io.NopCloser(bytes.NewReader(bytes.Replace(text, []byte("precious"), []byte("poisoned"), 1)))
	}
	return http.DefaultTransport.RoundTrip(r)
}

func TestDials(t *testing.T) {
	s := start(t)
	client := s.trust()
	put := func() error {
		_, err := client.Client.PutObject(t.Context(), "files", "f", bytes.NewReader(five), int64(len(five)), minio.PutObjectOptions{})
		return err
	}
	s.Dials().Turn(Settings{Throttle: true})
	wantCode(t, "throttled", put(), "SlowDown")
	s.Dials().Turn(Settings{Errors: 1})
	wantCode(t, "failing", put(), "InternalError")
	s.Dials().Turn(Settings{Outage: true})
	if err := put(); err == nil {
		t.Error("it is away, and answers")
	}
	s.Dials().Turn(Settings{CutAfter: 1 << 20})
	if err := put(); err == nil {
		t.Error("an upload that was cut went through")
	}
	s.Dials().Turn(Settings{Delay: time.Minute})
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	if _, err := client.StatObject(ctx, "files", "f", minio.StatObjectOptions{}); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("it is slow, and answers %v", err)
	}
	s.Dials().Turn(Settings{})
	if s.files() != 0 {
		t.Errorf("%d contents are left of uploads that failed", s.files())
	}
	if err := put(); err != nil {
		t.Error(err)
	}
}

// A clock that is wrong, and a signed address that holds no longer, are refused.
func TestClocks(t *testing.T) {
	s := start(t)
	client := s.trust()
	s.put(client, "f", "x", minio.PutObjectOptions{})
	address, err := client.PresignedGetObject(t.Context(), "files", "f", time.Hour, nil)
	if err != nil {
		t.Fatal(err)
	}
	ask := func() int {
		r, err := http.Get(address.String())
		if err != nil {
			t.Fatal(err)
		}
		r.Body.Close()
		return r.StatusCode
	}
	if got := ask(); got != http.StatusOK {
		t.Errorf("a signed address: %d", got)
	}
	s.config.Now = func() time.Time { return time.Now().Add(2 * time.Hour) }
	if got := ask(); got != http.StatusForbidden {
		t.Errorf("two hours later: %d", got)
	}
	_, _, _, err = client.GetObject(t.Context(), "files", "f", minio.GetObjectOptions{})
	wantCode(t, "a clock that is two hours slow", err, "RequestTimeTooSkewed")
}

// What it holds is there after its process ended.
func TestKept(t *testing.T) {
	dir := t.TempDir()
	for i := range 2 {
		c, err := Open(Config{Dir: dir, Keys: testKeys, Regions: []Region{{Name: "coast-1"}}})
		if err != nil {
			t.Fatal(err)
		}
		server := httptest.NewServer(c.Region("coast-1"))
		s := &sky{c, t, strings.TrimPrefix(server.URL, "http://")}
		if i == 0 {
			s.put(s.trust(), "f", "kept", minio.PutObjectOptions{})
		} else if text := contentOf(t, s.client(testKeys[0]), "f", minio.GetObjectOptions{}); text != "kept" {
			t.Errorf("afterwards it holds %q", text)
		}
		server.Close()
		if err := c.Close(); err != nil {
			t.Fatal(err)
		}
	}
}
