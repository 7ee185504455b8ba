package cloud

import (
	"cmp"
	"encoding/xml"
	"io"
	"net/http"
	"net/url"
	"strings"

	rules "bridgespan/core/bucket"
)

// copySource returns the object that a request copies.
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
	if _, err := from.own(Reads); err != nil {
		return found, err
	}
	o, refused := from.find(version)
	if refused != nil {
		return found, refused
	}
	if refused := q.fits(*o, "X-Amz-Copy-Source-"); refused != nil {
		return found, preconditionFailed(cmp.Or(refused.Condition, "x-amz-copy-source-If-None-Match"))
	}
	return *o, nil
}

// copyObject copies an object, or replaces the metadata of an object by copying it onto itself.
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
		o.description = from.description
	case from.Size > rules.MostPut:
		return refuse(http.StatusBadRequest, "InvalidRequest", "The specified copy source is larger than the maximum allowable size for a copy source: %d", int64(rules.MostPut))
	}
	c, err := q.copyContent(from, 0, from.Size)
	if err != nil {
		return err
	}
	if err := q.place(&o, c, nil); err != nil {
		return err
	}
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
