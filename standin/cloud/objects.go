package cloud

import (
	"cmp"
	"crypto/rand"
	"net/http"
	"strings"
	"time"

	"go.etcd.io/bbolt"

	rules "bridgespan/core/bucket"
)

const metaPrefix = "X-Amz-Meta-"

// serveObject dispatches a request about an object.
func (q *request) serveObject() *Error {
	if _, err := q.bucket(); err != nil {
		return err
	}
	if len(q.object) > 1024 {
		return refuse(http.StatusBadRequest, "KeyTooLongError", "Your key is too long")
	}
	if strings.Contains(q.object, "\x00") {
		return invalidArgument("A key must not hold a zero byte")
	}
	query := q.r.URL.Query()
	for _, other := range []string{"acl", "tagging", "retention", "legal-hold", "torrent", "attributes", "select"} {
		if query.Has(other) {
			return notImplemented()
		}
	}
	parts := query.Has("uploadId")
	switch q.r.Method {
	case http.MethodPut:
		return q.allowed(Writes, func() *Error {
			switch copies := q.r.Header.Get("X-Amz-Copy-Source") != ""; {
			case parts:
				return q.uploadPart(copies)
			case copies:
				return q.copyObject()
			}
			return q.putObject()
		})
	case http.MethodPost:
		return q.allowed(Writes, func() *Error {
			switch {
			case query.Has("uploads"):
				return q.beginUpload()
			case parts:
				return q.completeUpload()
			}
			return notImplemented()
		})
	case http.MethodGet, http.MethodHead:
		if parts {
			return q.allowed(Lists, q.listParts)
		}
		return q.allowed(Reads, q.getObject)
	case http.MethodDelete:
		if parts {
			return q.allowed(Writes, q.abortUpload)
		}
		return q.allowed(Deletes, q.deleteObject)
	}
	return methodNotAllowed()
}

func (q *request) allowed(right Right, do func() *Error) *Error {
	if err := q.may(right); err != nil {
		return err
	}
	return do()
}

// keptHeaders are kept with an object, and sent with it again.
var keptHeaders = []string{"Cache-Control", "Content-Disposition", "Content-Encoding", "Content-Language", "Expires"}

// described returns the metadata of a new object from the request headers.
func (q *request) described() (o objectRecord, refused *Error) {
	o = objectRecord{Key: q.object, description: description{Type: q.r.Header.Get("Content-Type"), Meta: map[string]string{}, Headers: map[string]string{}}}
	switch q.r.Header.Get("X-Amz-Storage-Class") {
	case "", "STANDARD", "REDUCED_REDUNDANCY":
	default:
		return o, refuse(http.StatusBadRequest, "InvalidStorageClass", "The storage class you specified is not valid")
	}
	for _, name := range keptHeaders {
		value := q.r.Header.Get(name)
		if name == "Content-Encoding" { // the form in which a signed content is sent is none of the content itself
			value = strings.TrimPrefix(strings.TrimPrefix(value, "aws-chunked"), ",")
		}
		if value != "" {
			o.Headers[name] = value
		}
	}
	for name, values := range q.r.Header {
		if short, ours := strings.CutPrefix(name, metaPrefix); ours {
			o.Meta[strings.ToLower(short)] = strings.Join(values, ",")
		}
	}
	if n := rules.MetaSize(o.Meta); n > rules.MostMeta {
		return o, refuse(http.StatusBadRequest, "MetadataTooLarge", "Your metadata headers exceed the maximum allowed metadata size: %d bytes", n)
	}
	return o, nil
}

// receiveContent receives the content of a request. Its length must be given.
func (q *request) receiveContent() (content, *Error) {
	switch {
	case q.length < 0:
		return content{}, refuse(http.StatusLengthRequired, "MissingContentLength", "You must provide the Content-Length HTTP header.")
	case q.length > rules.MostPut:
		return content{}, refuse(http.StatusBadRequest, "EntityTooLarge", "Your proposed upload exceeds the maximum allowed size")
	}
	c, err := q.store.receive(q.content)
	switch {
	case err != nil:
		return c, asError(err)
	case c.Size != q.length:
		q.store.drop(c.File)
		return c, incomplete()
	}
	return c, nil
}

func (q *request) putObject() *Error {
	o, err := q.described()
	if err != nil {
		return err
	}
	if err := q.checkBeforehand(); err != nil { // before receiving gigabytes for nothing
		return err
	}
	c, err := q.receiveContent()
	if err != nil {
		return err
	}
	if err := q.place(&o, c, nil); err != nil {
		return err
	}
	q.w.WriteHeader(http.StatusOK)
	return nil
}

// describe sets the headers of the answer to a write.
func (q *request) describe(o objectRecord) {
	q.w.Header().Set("ETag", `"`+o.ETag+`"`)
	if o.Version != "null" {
		q.w.Header().Set("X-Amz-Version-Id", o.Version)
	}
}

// checkBeforehand returns the error that place would return now.
func (q *request) checkBeforehand() (refused *Error) {
	_ = q.store.db.View(func(tx *bbolt.Tx) error {
		refused = q.checkConditions(tx)
		return nil
	})
	return refused
}

// checkConditions checks the preconditions of a request that replaces an object.
func (q *request) checkConditions(tx *bbolt.Tx) *Error {
	now := read[objectRecord](table(tx, objectTable, q.name), []byte(q.object))
	there := now != nil && !now.Marker
	switch none, match := q.r.Header.Get("If-None-Match"), q.r.Header.Get("If-Match"); {
	case none != "" && none != "*":
		return notImplemented()
	case none == "*" && there:
		return preconditionFailed("If-None-Match")
	case match != "" && !there:
		return noSuchKey(q.object)
	case match != "" && strings.Trim(match, `"`) != now.ETag:
		return preconditionFailed("If-Match")
	}
	return nil
}

// place creates an object from received content. It checks the preconditions and the quota, and runs also,
// which may be nil, in the same transaction. If that fails, the content is deleted.
func (q *request) place(o *objectRecord, c content, also func(*bbolt.Tx) error) *Error {
	o.File, o.Size, o.ETag = c.File, c.Size, cmp.Or(o.ETag, c.ETag)
	var dropped []string
	err := q.store.db.Update(func(tx *bbolt.Tx) error {
		dropped = nil
		if err := q.checkConditions(tx); err != nil {
			return err
		}
		b := bucketIn(tx, q.name)
		if b == nil {
			return noSuchBucket(q.name)
		}
		if also != nil {
			if err := also(tx); err != nil {
				return err
			}
		}
		var err error
		dropped, err = replaceObject(tx, b, o, q.config.Now().UTC())
		return err
	})
	if err != nil {
		q.store.drop(c.File)
		return asError(err)
	}
	q.store.drop(dropped...)
	q.describe(*o)
	q.announce("ObjectCreated:Put", o.Key)
	return nil
}

// replaceObject stores the record of the current object of a key, and returns the content files that are no
// longer used.
func replaceObject(tx *bbolt.Tx, b *bucketRecord, o *objectRecord, now time.Time) (dropped []string, err error) {
	objects := table(tx, objectTable, b.Name)
	before := read[objectRecord](objects, []byte(o.Key))
	used := b.Used + o.Size
	if before != nil {
		used -= before.Size
	}
	if b.Quota > 0 && used > b.Quota && used > b.Used {
		return nil, refuse(http.StatusForbidden, "QuotaExceeded", "The quota of the bucket of %d bytes would be exceeded.", b.Quota)
	}
	b.Used, o.Modified, o.Version = used, now, "null"
	if b.Versioning == "Enabled" {
		o.Version = rand.Text()
	}
	if before != nil {
		if keeps := before.Version != "null" || o.Version != "null"; keeps {
			err = keepEarlier(tx, b.Name, *before)
		} else {
			dropped = append(dropped, before.File)
		}
	}
	if err == nil {
		err = write(objects, []byte(o.Key), o)
	}
	if err == nil {
		err = write(tx.Bucket(bucketTable), []byte(b.Name), b)
	}
	return dropped, err
}
