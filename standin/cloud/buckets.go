package cloud

import (
	"encoding/xml"
	"errors"
	"io"
	"net/http"
	"strings"
	"time"

	"go.etcd.io/bbolt"

	rules "bridgespan/core/bucket"
)

// timeForm is the layout of times in XML documents.
const timeForm = "2006-01-02T15:04:05.000Z"

type owner struct{ ID, DisplayName string }

func ownerOf(account string) owner { return owner{account, account} }

// listBuckets lists the buckets of the account in all regions.
func (q *request) listBuckets() *Error {
	if q.r.Method != http.MethodGet {
		return methodNotAllowed()
	}
	if err := q.may(Lists); err != nil {
		return err
	}
	type item struct{ Name, CreationDate, BucketRegion string }
	var out struct {
		XMLName xml.Name `xml:"ListAllMyBucketsResult"`
		Owner   owner
		Buckets struct{ Bucket []item }
	}
	out.Owner = ownerOf(q.key.Account)
	_ = q.store.eachBucket(func(r bucketRecord) {
		if r.Account == q.key.Account {
			out.Buckets.Bucket = append(out.Buckets.Bucket, item{r.Name, r.Created.Format(timeForm), r.Region})
		}
	})
	answer(q.w, http.StatusOK, out)
	return nil
}

func methodNotAllowed() *Error {
	return refuse(http.StatusMethodNotAllowed, "MethodNotAllowed", "The specified method is not allowed against this resource.")
}

func notImplemented() *Error {
	return refuse(http.StatusNotImplemented, "NotImplemented", "A header or query you provided implies functionality that is not implemented.")
}

// bucket returns the bucket of the request, if the account owns it and it is in this region.
func (q *request) bucket() (found *bucketRecord, refused *Error) {
	_ = q.store.db.View(func(tx *bbolt.Tx) error {
		found = bucketIn(tx, q.name)
		return nil
	})
	switch {
	case found == nil:
		return nil, noSuchBucket(q.name)
	case found.Account != q.key.Account:
		return nil, accessDenied("Access Denied")
	case found.Region != q.region:
		err := refuse(http.StatusMovedPermanently, "PermanentRedirect", "The bucket you are attempting to access must be addressed using the specified endpoint.")
		err.Region = found.Region
		q.w.Header().Set("X-Amz-Bucket-Region", found.Region)
		return nil, err
	}
	return found, nil
}

// own returns the bucket of a request when the key has a right there.
func (q *request) own(right Right) (*bucketRecord, *Error) {
	b, err := q.bucket()
	if err == nil {
		err = q.may(right)
	}
	return b, err
}

// serveBucket serves a request about a bucket.
func (q *request) serveBucket() *Error {
	query := q.r.URL.Query()
	switch q.r.Method {
	case http.MethodPut:
		switch {
		case query.Has("versioning"):
			return q.setVersioning()
		case len(query) > 0 && !query.Has("x-id"):
			return notImplemented()
		}
		return q.createBucket()
	case http.MethodHead:
		return q.headBucket()
	case http.MethodDelete:
		return q.deleteBucket()
	case http.MethodPost:
		if query.Has("delete") {
			return q.deleteObjects()
		}
		return notImplemented()
	case http.MethodGet:
		return q.askBucket()
	}
	return methodNotAllowed()
}

func (q *request) askBucket() *Error {
	b, err := q.own(Lists)
	if err != nil {
		return err
	}
	query := q.r.URL.Query()
	switch {
	case query.Has("location"):
		answer(q.w, http.StatusOK, struct {
			XMLName xml.Name `xml:"LocationConstraint"`
			Region  string   `xml:",chardata"`
		}{Region: b.Region})
		return nil
	case query.Has("versioning"):
		answer(q.w, http.StatusOK, struct {
			XMLName xml.Name `xml:"VersioningConfiguration"`
			Status  string   `xml:",omitempty"`
		}{Status: b.Versioning})
		return nil
	case query.Has("object-lock") && b.Retention > 0:
		q.tellRetention(b)
		return nil
	case query.Has("uploads"):
		return q.listUploads()
	case query.Has("versions"):
		return q.listVersions()
	}
	for part, code := range missing {
		if query.Has(part) {
			return refuse(http.StatusNotFound, code, "There is no such configuration of this bucket.")
		}
	}
	for name := range query {
		if !listAsks[name] && !strings.HasPrefix(name, "X-Amz-") {
			return notImplemented()
		}
	}
	return q.list(query)
}

// missing maps configurations that buckets of this service never have to the error code for each.
var missing = map[string]string{
	"policy": "NoSuchBucketPolicy", "lifecycle": "NoSuchLifecycleConfiguration", "cors": "NoSuchCORSConfiguration", "tagging": "NoSuchTagSet",
	"object-lock": "ObjectLockConfigurationNotFoundError", "replication": "ReplicationConfigurationNotFoundError", "website": "NoSuchWebsiteConfiguration",
}

// listAsks are the query parameters of a listing.
var listAsks = map[string]bool{
	"prefix": true, "delimiter": true, "marker": true, "max-keys": true, "encoding-type": true, "list-type": true,
	"continuation-token": true, "start-after": true, "fetch-owner": true, "x-id": true,
}

// createBucket creates a bucket in this region. Bucket names are unique in the whole cloud.
func (q *request) createBucket() *Error {
	if err := q.may(Manages); err != nil {
		return err
	}
	if err := rules.CheckName("bucket", q.name); err != nil {
		return refuse(http.StatusBadRequest, "InvalidBucketName", "The specified bucket is not valid: %v", err)
	}
	if err := q.checkConstraint(); err != nil {
		return err
	}
	err := q.store.db.Update(func(tx *bbolt.Tx) error {
		if b := bucketIn(tx, q.name); b != nil {
			if b.Account == q.key.Account {
				return refuse(http.StatusConflict, "BucketAlreadyOwnedByYou", "Your previous request to create the named bucket succeeded and you already own it.")
			}
			return refuse(http.StatusConflict, "BucketAlreadyExists", "The requested bucket name is not available. The bucket namespace is shared by all users of the system.")
		}
		for _, kind := range [][]byte{objectTable, versionTable, uploadTable, partTable} {
			if _, err := tx.Bucket(kind).CreateBucket([]byte(q.name)); err != nil {
				return err
			}
		}
		return write(tx.Bucket(bucketTable), []byte(q.name), bucketRecord{Name: q.name, Account: q.key.Account, Region: q.region, Created: q.config.Now().UTC()})
	})
	if err != nil {
		return asError(err)
	}
	q.w.Header().Set("Location", "/"+q.name)
	q.w.WriteHeader(http.StatusOK)
	return nil
}

// checkConstraint checks the region named in the request's document, if there is one.
func (q *request) checkConstraint() *Error {
	text, err := io.ReadAll(io.LimitReader(q.content, 64<<10))
	if refused := asError(err); refused != nil || len(text) == 0 {
		return refused
	}
	var asked struct{ LocationConstraint string }
	if xml.Unmarshal(text, &asked) != nil {
		return refuse(http.StatusBadRequest, "MalformedXML", "The XML you provided was not well-formed or did not validate against our published schema.")
	}
	if asked.LocationConstraint != "" && asked.LocationConstraint != q.region {
		return refuse(http.StatusBadRequest, "IllegalLocationConstraintException", "The %s location constraint is incompatible for the region specific endpoint this request was sent to.", asked.LocationConstraint)
	}
	return nil
}

func (q *request) headBucket() *Error {
	b, err := q.bucket()
	if err != nil {
		return err
	}
	q.w.Header().Set("X-Amz-Bucket-Region", b.Region)
	q.w.WriteHeader(http.StatusOK)
	return nil
}

// deleteBucket deletes an empty bucket: no objects, no earlier versions, no uploads.
func (q *request) deleteBucket() *Error {
	if _, err := q.own(Manages); err != nil {
		return err
	}
	err := q.store.db.Update(func(tx *bbolt.Tx) error {
		for _, kind := range [][]byte{objectTable, versionTable, uploadTable} {
			if key, _ := table(tx, kind, q.name).Cursor().First(); key != nil {
				return refuse(http.StatusConflict, "BucketNotEmpty", "The bucket you tried to delete is not empty. You must delete all versions in the bucket.")
			}
		}
		var err error
		for _, kind := range [][]byte{objectTable, versionTable, uploadTable, partTable} {
			err = errors.Join(err, tx.Bucket(kind).DeleteBucket([]byte(q.name)))
		}
		return errors.Join(err, tx.Bucket(bucketTable).Delete([]byte(q.name)))
	})
	if err != nil {
		return asError(err)
	}
	q.w.WriteHeader(http.StatusNoContent)
	return nil
}

func (q *request) setVersioning() *Error {
	if _, err := q.own(Manages); err != nil {
		return err
	}
	var asked struct{ Status string }
	if err := q.read(&asked); err != nil {
		return err
	}
	if asked.Status != "Enabled" && asked.Status != "Suspended" {
		return refuse(http.StatusBadRequest, "IllegalVersioningConfigurationException", "Indicates that the versioning configuration specified in the request is invalid.")
	}
	err := q.store.changeBucket(q.name, func(b *bucketRecord) { b.Versioning = asked.Status })
	if err != nil {
		return asError(err)
	}
	q.w.WriteHeader(http.StatusOK)
	return nil
}

func (s *store) changeBucket(name string, change func(*bucketRecord)) error {
	return s.db.Update(func(tx *bbolt.Tx) error {
		b := bucketIn(tx, name)
		if b == nil {
			return noSuchBucket(name)
		}
		change(b)
		return write(tx.Bucket(bucketTable), []byte(name), b)
	})
}

// SetQuota limits the size of all current objects of a bucket, in bytes; 0 removes the limit.
func (c *Cloud) SetQuota(bucket string, quota int64) error {
	return c.store.changeBucket(bucket, func(b *bucketRecord) { b.Quota = quota })
}

// SetRetention retains the versions of all objects of a bucket for so many days, and turns versioning on; 0 ends that.
func (c *Cloud) SetRetention(bucket string, days int) error {
	return c.store.changeBucket(bucket, func(b *bucketRecord) {
		if b.Retention = days; days > 0 {
			b.Versioning = "Enabled"
		}
	})
}

// retains reports whether a version cannot be deleted yet.
func (b *bucketRecord) retains(o *objectRecord, now time.Time) bool {
	return !o.Marker && now.Before(o.Modified.AddDate(0, 0, b.Retention))
}

// tellRetention answers with the retention of a bucket ("GetObjectLockConfiguration" of the S3 API reference).
func (q *request) tellRetention(b *bucketRecord) {
	type retention struct {
		Mode string
		Days int
	}
	answer(q.w, http.StatusOK, struct {
		XMLName           xml.Name `xml:"ObjectLockConfiguration"`
		ObjectLockEnabled string
		DefaultRetention  retention `xml:"Rule>DefaultRetention"`
	}{ObjectLockEnabled: "Enabled", DefaultRetention: retention{"COMPLIANCE", b.Retention}})
}

// Usage returns the size of all current objects of a bucket, in bytes, and when the bucket was created.
func (c *Cloud) Usage(name string) (used int64, created time.Time, err error) {
	err = c.store.db.View(func(tx *bbolt.Tx) error {
		b := bucketIn(tx, name)
		if b == nil {
			return noSuchBucket(name)
		}
		used, created = b.Used, b.Created
		return nil
	})
	return used, created, err
}
