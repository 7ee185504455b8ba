package cloud

import (
	"bytes"
	"encoding/xml"
	"errors"
	"net/http"

	"go.etcd.io/bbolt"
)

// keepEarlier stores the current object as an earlier version.
func keepEarlier(tx *bbolt.Tx, bucket string, o objectRecord) error {
	versions := table(tx, versionTable, bucket)
	number, err := versions.NextSequence()
	if err != nil {
		return err
	}
	return write(versions, earlierKey(o.Key, number), o)
}

// findVersion returns the current object of a key, or one of its versions, and the key of its record; at is nil
// for the current object.
func findVersion(tx *bbolt.Tx, bucket, key, version string) (found *objectRecord, at []byte) {
	current := read[objectRecord](table(tx, objectTable, bucket), []byte(key))
	if version == "" || current != nil && current.Version == version {
		return current, nil
	}
	versions := table(tx, versionTable, bucket)
	for k, o := range earlier(versions, key) {
		if o.Version == version {
			return o, k
		}
	}
	return nil, nil
}

// earlier yields the earlier versions of a key, newest first.
func earlier(versions *bbolt.Bucket, key string) func(yield func([]byte, *objectRecord) bool) {
	return func(yield func([]byte, *objectRecord) bool) {
		prefix := append([]byte(key), 0)
		c := versions.Cursor()
		for k, _ := c.Seek(prefix); k != nil && bytes.HasPrefix(k, prefix) && len(k) == len(prefix)+8; k, _ = c.Next() {
			if o := read[objectRecord](versions, k); o != nil && !yield(k, o) {
				return
			}
		}
	}
}

// deleteObject deletes an object. In a bucket with versioning, it adds a delete marker unless a version is named.
func (q *request) deleteObject() *Error {
	version := q.r.URL.Query().Get("versionId")
	gone, err := q.delete(q.object, version)
	if err != nil {
		return asError(err)
	}
	if gone.Marker {
		q.w.Header().Set("X-Amz-Delete-Marker", "true")
	}
	if gone.Version != "" && gone.Version != "null" {
		q.w.Header().Set("X-Amz-Version-Id", gone.Version)
	}
	q.w.WriteHeader(http.StatusNoContent)
	return nil
}

// delete deletes an object or a version of it, and returns the new marker or the deleted record. Deleting a
// missing object succeeds.
func (q *request) delete(key, version string) (gone objectRecord, err error) {
	var dropped []string
	err = q.store.db.Update(func(tx *bbolt.Tx) error {
		b := bucketIn(tx, q.name)
		if b == nil {
			return noSuchBucket(q.name)
		}
		found, at := findVersion(tx, q.name, key, version)
		if version == "" && b.Versioning == "Enabled" {
			gone = objectRecord{Key: key, Marker: true}
			_, err := replaceObject(tx, b, &gone, q.config.Now().UTC())
			return err
		}
		if found == nil {
			return nil
		}
		if b.retains(found, q.config.Now()) {
			return refuse(http.StatusForbidden, "AccessDenied", "The object version is retained for %d days.", b.Retention)
		}
		gone, dropped = *found, []string{found.File}
		if at != nil {
			return table(tx, versionTable, q.name).Delete(at)
		}
		return removeCurrent(tx, b, *found)
	})
	if err == nil {
		q.store.drop(dropped...)
		q.announce("ObjectRemoved:Delete", key)
	}
	return gone, err
}

// removeCurrent deletes the current object. The newest earlier version becomes current.
func removeCurrent(tx *bbolt.Tx, b *bucketRecord, o objectRecord) error {
	objects, versions := table(tx, objectTable, b.Name), table(tx, versionTable, b.Name)
	b.Used -= o.Size
	err := objects.Delete([]byte(o.Key))
	for at, before := range earlier(versions, o.Key) {
		b.Used += before.Size
		err = errors.Join(err, write(objects, []byte(o.Key), before), versions.Delete(bytes.Clone(at)))
		break
	}
	return errors.Join(err, write(tx.Bucket(bucketTable), []byte(b.Name), b))
}

// mostDeleted is the maximum number of objects in one request.
const mostDeleted = 1000

// deleteObjects deletes several objects, and reports a result for each.
func (q *request) deleteObjects() *Error {
	if _, err := q.own(Deletes); err != nil {
		return err
	}
	if !q.summed() {
		return refuse(http.StatusBadRequest, "InvalidRequest", "Missing required header for this request: Content-MD5")
	}
	var asked struct {
		Quiet  bool
		Object []struct{ Key, VersionId string }
	}
	if err := q.read(&asked); err != nil {
		return err
	}
	if len(asked.Object) == 0 || len(asked.Object) > mostDeleted {
		return refuse(http.StatusBadRequest, "MalformedXML", "The XML you provided was not well-formed or did not validate against our published schema.")
	}
	type done struct {
		Key       string
		VersionId string `xml:",omitempty"`
	}
	type failed struct{ Key, Code, Message string }
	var out struct {
		XMLName xml.Name `xml:"DeleteResult"`
		Deleted []done
		Error   []failed
	}
	for _, o := range asked.Object {
		if _, err := q.delete(o.Key, o.VersionId); err != nil {
			e := asError(err)
			out.Error = append(out.Error, failed{o.Key, e.Code, e.Message})
		} else if !asked.Quiet {
			out.Deleted = append(out.Deleted, done{o.Key, o.VersionId})
		}
	}
	answer(q.w, http.StatusOK, out)
	return nil
}

// summed reports whether the request has a checksum of its content.
func (q *request) summed() bool {
	if q.r.Header.Get("Content-Md5") != "" || q.r.Header.Get("X-Amz-Trailer") != "" {
		return true
	}
	for name := range sums {
		if q.r.Header.Get(name) != "" {
			return true
		}
	}
	return false
}

// listVersions lists objects and their earlier versions, by key, newest first.
func (q *request) listVersions() *Error {
	query := q.r.URL.Query()
	prefix, key, id := query.Get("prefix"), query.Get("key-marker"), query.Get("version-id-marker")
	most, err := atMost(query.Get("max-keys"))
	if err != nil {
		return err
	}
	type item struct {
		XMLName        xml.Name
		Key, VersionId string
		IsLatest       bool
		LastModified   string
		ETag           string `xml:",omitempty"`
		Size           int64
		StorageClass   string `xml:",omitempty"`
		Owner          owner
	}
	var out struct {
		XMLName                    xml.Name `xml:"ListVersionsResult"`
		Name, Prefix               string
		KeyMarker, VersionIdMarker string
		NextKeyMarker              string `xml:",omitempty"`
		NextVersionIdMarker        string `xml:",omitempty"`
		MaxKeys                    int
		IsTruncated                bool
		Versions                   []item
	}
	out.Name, out.Prefix, out.KeyMarker, out.VersionIdMarker, out.MaxKeys = q.name, prefix, key, id, most
	passed := id == ""
	add := func(o objectRecord, latest bool) bool {
		if o.Key < key || o.Key == key && key != "" && (id == "" || !passed) {
			passed = passed || o.Key == key && o.Version == id
			return true
		}
		if len(out.Versions) == most {
			out.IsTruncated = true
			return false
		}
		v := item{XMLName: xml.Name{Local: "Version"}, Key: o.Key, VersionId: o.Version, IsLatest: latest, LastModified: o.Modified.Format(timeForm), ETag: `"` + o.ETag + `"`, Size: o.Size, StorageClass: "STANDARD", Owner: ownerOf(q.key.Account)}
		if o.Marker {
			v.XMLName.Local, v.ETag, v.StorageClass = "DeleteMarker", "", ""
		}
		out.Versions = append(out.Versions, v)
		out.NextKeyMarker, out.NextVersionIdMarker = o.Key, o.Version
		return true
	}
	_ = q.store.db.View(func(tx *bbolt.Tx) error {
		objects, versions := table(tx, objectTable, q.name), table(tx, versionTable, q.name)
		if objects == nil {
			return nil
		}
		c := objects.Cursor()
		for k, v := c.Seek([]byte(prefix)); k != nil && bytes.HasPrefix(k, []byte(prefix)); k, v = c.Next() {
			o := parse[objectRecord](v)
			if o == nil || !add(*o, true) {
				return nil
			}
			for _, before := range earlier(versions, string(k)) {
				if !add(*before, false) {
					return nil
				}
			}
		}
		return nil
	})
	if !out.IsTruncated {
		out.NextKeyMarker, out.NextVersionIdMarker = "", ""
	}
	answer(q.w, http.StatusOK, out)
	return nil
}
