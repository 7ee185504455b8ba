package cloud

import (
	"cmp"
	"fmt"
	"io"
	"net/http"
	"strings"

	"go.etcd.io/bbolt"
)

// find returns an object, or one version of it.
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

// getObject sends an object, or its headers only.
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
	for name, value := range o.Headers {
		h.Set(name, value)
	}
	if err := q.fits(*o, ""); err != nil {
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
	h.Set("Content-Type", cmp.Or(o.Type, "binary/octet-stream"))
	h.Set("Content-Length", fmt.Sprint(length))
	f, openErr := q.store.open(o.File)
	if openErr != nil {
		return asError(openErr)
	}
	defer f.Close()
	q.w.WriteHeader(status)
	if q.r.Method == http.MethodGet {
		content := io.NewSectionReader(f, at, length)
		_, _ = io.Copy(q.w, billed{content, func(bytes int64) { q.countOut(q.name, bytes) }}) // the client may close the connection
	}
	return nil
}

// fits checks the preconditions of a read (RFC 9110, section 13.2.2), in headers with a prefix.
func (q *request) fits(o objectRecord, prefix string) *Error {
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
		at, err := http.ParseTime(h.Get(prefix + header))
		return err == nil && o.Modified.Truncate(1e9).After(at), err == nil
	}
	notModified := &Error{Status: http.StatusNotModified}
	if match := h.Get(prefix + "If-Match"); match != "" {
		if !is(match) {
			return preconditionFailed("If-Match")
		}
	} else if changed, asked := since("If-Unmodified-Since"); asked && changed {
		return preconditionFailed("If-Unmodified-Since")
	}
	if none := h.Get(prefix + "If-None-Match"); none != "" {
		if is(none) {
			return notModified
		}
	} else if changed, asked := since("If-Modified-Since"); asked && !changed {
		return notModified
	}
	return nil
}

// parseRange parses a byte range (RFC 9110, section 14.1.2). Several ranges, and invalid ones, count as the
// whole object. ok is false when the range is outside the object.
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
	case first == "" && toErr == nil: // suffix range
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
