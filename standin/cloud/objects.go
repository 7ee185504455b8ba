package cloud

import (
	"encoding/xml"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"

	"go.etcd.io/bbolt"

	rules "bridgespan/core/bucket"
)

const metaPrefix = "X-Amz-Meta-"

// serveObject does what is asked about an object.
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

// described is what the headers of a request say of a new object.
func (q *request) described() (o objectRecord, refused *Error) {
	o = objectRecord{Key: q.object, Type: q.r.Header.Get("Content-Type"), Meta: map[string]string{}}
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

// arrive receives the content of a request, of which the length must be told.
func (q *request) arrive() (content, *Error) {
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
	if err := q.foresee(); err != nil { // nobody sends gigabytes for nothing
		return err
	}
	c, err := q.arrive()
	if err != nil {
		return err
	}
	o.File, o.ETag, o.Size = c.File, c.ETag, c.Size
	if err := q.place(&o, nil); err != nil {
		q.store.drop(c.File)
		return err
	}
	q.tellPlaced(o)
	q.w.WriteHeader(http.StatusOK)
	return nil
}

func (q *request) tellPlaced(o objectRecord) {
	q.w.Header().Set("ETag", `"`+o.ETag+`"`)
	if o.Version != "null" {
		q.w.Header().Set("X-Amz-Version-Id", o.Version)
	}
}

// foresee refuses what place would refuse now.
func (q *request) foresee() (refused *Error) {
	_ = q.store.db.View(func(tx *bbolt.Tx) error {
		refused = q.holds(tx)
		return nil
	})
	return refused
}

// holds checks the conditions of a request that replaces an object.
func (q *request) holds(tx *bbolt.Tx) *Error {
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

// place makes a record the current object, in a step with the conditions of the request, the quota, and what
// else is to be done in the records.
func (q *request) place(o *objectRecord, also func(*bbolt.Tx) error) *Error {
	var dropped []string
	err := q.store.db.Update(func(tx *bbolt.Tx) error {
		dropped = nil
		if err := q.holds(tx); err != nil {
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
		return asError(err)
	}
	q.store.drop(dropped...)
	return nil
}

// replaceObject puts a record in the place of the current object of its key, and returns the contents that
// belong to nothing afterwards.
func replaceObject(tx *bbolt.Tx, b *bucketRecord, o *objectRecord, now moment) (dropped []string, err error) {
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
		o.Version = newVersion()
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

// copySource is the object that a request copies.
func (q *request) copySource() (found objectRecord, refused *Error) {
	text := q.r.Header.Get("X-Amz-Copy-Source")
	text, version, _ := strings.Cut(text, "?versionId=")
	text, err := url.PathUnescape(text)
	name, key, ok := strings.Cut(strings.TrimPrefix(text, "/"), "/")
	if err != nil || !ok || key == "" {
		return found, invalidArgument("Copy Source must mention the source bucket and key: sourcebucket/sourcekey")
	}
	from := *q
	from.name, from.object = name, key
	if _, err := from.bucket(); err != nil {
		return found, err
	}
	if err := q.may(Reads); err != nil {
		return found, err
	}
	o, refused := from.find(version)
	if refused != nil {
		return found, refused
	}
	if match := q.r.Header.Get("X-Amz-Copy-Source-If-Match"); match != "" && strings.Trim(match, `"`) != o.ETag {
		return found, preconditionFailed("x-amz-copy-source-If-Match")
	}
	return *o, nil
}

// copyObject makes an object of another one, or of itself with other metadata.
func (q *request) copyObject() *Error {
	from, err := q.copySource()
	if err != nil {
		return err
	}
	o, err := q.described()
	if err != nil {
		return err
	}
	directive := q.r.Header.Get("X-Amz-Metadata-Directive")
	switch {
	case directive != "" && directive != "COPY" && directive != "REPLACE":
		return invalidArgument("Unknown metadata directive.")
	case directive != "REPLACE" && strings.TrimPrefix(q.r.Header.Get("X-Amz-Copy-Source"), "/") == q.name+"/"+escape(q.object, true):
		return refuse(http.StatusBadRequest, "InvalidRequest", "This copy request is illegal because it is trying to copy an object to itself without changing the object's metadata.")
	case directive != "REPLACE":
		o.Meta, o.Type = from.Meta, from.Type
	case from.Size > rules.MostPut:
		return refuse(http.StatusBadRequest, "InvalidRequest", "The specified copy source is larger than the maximum allowable size for a copy source: %d", int64(rules.MostPut))
	}
	c, err := q.copyContent(from, 0, from.Size)
	if err != nil {
		return err
	}
	o.File, o.ETag, o.Size = c.File, c.ETag, c.Size
	if err := q.place(&o, nil); err != nil {
		q.store.drop(c.File)
		return err
	}
	q.tellPlaced(o)
	answer(q.w, http.StatusOK, struct {
		XMLName      xml.Name `xml:"CopyObjectResult"`
		LastModified string
		ETag         string
	}{LastModified: o.Modified.Format(timeForm), ETag: `"` + o.ETag + `"`})
	return nil
}

func (q *request) copyContent(from objectRecord, at, length int64) (content, *Error) {
	f, err := q.store.open(from.File)
	if err != nil {
		return content{}, asError(err)
	}
	defer f.Close()
	c, err := q.store.receive(io.NewSectionReader(f, at, length))
	return c, asError(err)
}

// find finds an object, or a version of it.
func (q *request) find(version string) (found *objectRecord, refused *Error) {
	_ = q.store.db.View(func(tx *bbolt.Tx) error {
		found, _ = findVersion(tx, q.name, q.object, version)
		return nil
	})
	switch {
	case found == nil && version != "":
		return nil, refuse(http.StatusNotFound, "NoSuchVersion", "The specified version does not exist.")
	case found == nil:
		return nil, noSuchKey(q.object)
	case found.Marker && version != "":
		return nil, methodNotAllowed()
	case found.Marker:
		q.w.Header().Set("X-Amz-Delete-Marker", "true")
		return nil, noSuchKey(q.object)
	}
	return found, nil
}

// getObject sends an object, or tells of it alone.
func (q *request) getObject() *Error {
	o, err := q.find(q.r.URL.Query().Get("versionId"))
	if err != nil {
		return err
	}
	h := q.w.Header()
	h.Set("ETag", `"`+o.ETag+`"`)
	h.Set("Last-Modified", o.Modified.Format(http.TimeFormat))
	h.Set("Accept-Ranges", "bytes")
	if o.Version != "null" {
		h.Set("X-Amz-Version-Id", o.Version)
	}
	for name, value := range o.Meta {
		h.Set(metaPrefix+name, value)
	}
	if err := q.fits(*o); err != nil {
		return err
	}
	at, length, status := int64(0), o.Size, http.StatusOK
	if text := q.r.Header.Get("Range"); text != "" {
		var ok bool
		if at, length, ok = parseRange(text, o.Size); !ok {
			return refuse(http.StatusRequestedRangeNotSatisfiable, "InvalidRange", "The requested range is not satisfiable")
		}
		if length < o.Size || at > 0 {
			status = http.StatusPartialContent
			h.Set("Content-Range", fmt.Sprintf("bytes %d-%d/%d", at, at+length-1, o.Size))
		}
	}
	h.Set("Content-Type", firstOf(o.Type, "binary/octet-stream"))
	h.Set("Content-Length", fmt.Sprint(length))
	f, openErr := q.store.open(o.File)
	if openErr != nil {
		return asError(openErr)
	}
	defer f.Close()
	q.w.WriteHeader(status)
	if q.r.Method == http.MethodGet {
		_, _ = io.Copy(q.w, io.NewSectionReader(f, at, length)) // who reads may go away
	}
	return nil
}

func firstOf(text, otherwise string) string {
	if text == "" {
		return otherwise
	}
	return text
}

// fits checks the conditions under which an object is asked for (RFC 9110, section 13.2.2).
func (q *request) fits(o objectRecord) *Error {
	h := q.r.Header
	is := func(list string) bool {
		for tag := range strings.SplitSeq(list, ",") {
			if tag = strings.Trim(strings.TrimSpace(tag), `"`); tag == "*" || tag == o.ETag {
				return true
			}
		}
		return false
	}
	since := func(header string) (changed, asked bool) {
		at, err := http.ParseTime(h.Get(header))
		return err == nil && o.Modified.Truncate(1e9).After(at), err == nil
	}
	notModified := &Error{Status: http.StatusNotModified}
	if match := h.Get("If-Match"); match != "" {
		if !is(match) {
			return preconditionFailed("If-Match")
		}
	} else if changed, asked := since("If-Unmodified-Since"); asked && changed {
		return preconditionFailed("If-Unmodified-Since")
	}
	if none := h.Get("If-None-Match"); none != "" {
		if is(none) {
			return notModified
		}
	} else if changed, asked := since("If-Modified-Since"); asked && !changed {
		return notModified
	}
	return nil
}

// parseRange reads a range of bytes (RFC 9110, section 14.1.2). Several ranges, and what is none, stand for
// the whole; ok is false when nothing of the object is in it.
func parseRange(text string, size int64) (at, length int64, ok bool) {
	spec, isBytes := strings.CutPrefix(text, "bytes=")
	first, last, isRange := strings.Cut(spec, "-")
	if !isBytes || !isRange || strings.Contains(spec, ",") {
		return 0, size, true
	}
	var from, to int64
	_, fromErr := fmt.Sscan(first, &from)
	_, toErr := fmt.Sscan(last, &to)
	switch {
	case first == "" && toErr == nil: // the last bytes
		to = min(to, size)
		return size - to, to, to > 0
	case fromErr != nil || from < 0 || last != "" && (toErr != nil || to < from):
		return 0, size, true
	case from >= size:
		return 0, 0, false
	case last == "" || to >= size:
		to = size - 1
	}
	return from, to - from + 1, true
}
