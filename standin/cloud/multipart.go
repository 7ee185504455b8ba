package cloud

import (
	"bytes"
	"crypto/md5"
	"crypto/rand"
	"encoding/hex"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"

	"go.etcd.io/bbolt"

	rules "bridgespan/core/bucket"
)

// upload reads the upload of a request; nil when there is none.
func (q *request) upload(tx *bbolt.Tx) *uploadRecord {
	return read[uploadRecord](table(tx, uploadTable, q.name), uploadKey(q.object, q.r.URL.Query().Get("uploadId")))
}

// beginUpload creates a multipart upload.
func (q *request) beginUpload() *Error {
	o, err := q.described()
	if err != nil {
		return err
	}
	u := uploadRecord{Key: q.object, ID: rand.Text(), Begun: q.config.Now().UTC(), description: o.description}
	if err := q.store.db.Update(func(tx *bbolt.Tx) error {
		return write(table(tx, uploadTable, q.name), uploadKey(u.Key, u.ID), u)
	}); err != nil {
		return asError(err)
	}
	answer(q.w, http.StatusOK, struct {
		XMLName               xml.Name `xml:"InitiateMultipartUploadResult"`
		Bucket, Key, UploadId string
	}{Bucket: q.name, Key: q.object, UploadId: u.ID})
	return nil
}

// uploadPart receives a part, or copies it from an object.
func (q *request) uploadPart(copies bool) *Error {
	number, parseErr := strconv.Atoi(q.r.URL.Query().Get("partNumber"))
	if parseErr != nil || number < 1 || number > rules.MostParts {
		return invalidArgument("Part number must be an integer between 1 and %d, inclusive", rules.MostParts)
	}
	if err := q.uploadIsThere(); err != nil {
		return err
	}
	var c content
	var err *Error
	if copies {
		c, err = q.copyPart()
	} else {
		c, err = q.receiveContent()
	}
	if err != nil {
		return err
	}
	p := partRecord{Number: number, ETag: c.ETag, Size: c.Size, Modified: q.config.Now().UTC(), File: c.File}
	if err := q.keepPart(p); err != nil {
		q.store.drop(c.File)
		return err
	}
	q.w.Header().Set("ETag", `"`+p.ETag+`"`)
	if copies {
		answer(q.w, http.StatusOK, struct {
			XMLName            xml.Name `xml:"CopyPartResult"`
			LastModified, ETag string
		}{LastModified: p.Modified.Format(timeForm), ETag: `"` + p.ETag + `"`})
		return nil
	}
	q.w.WriteHeader(http.StatusOK)
	return nil
}

func (q *request) uploadIsThere() (refused *Error) {
	_ = q.store.db.View(func(tx *bbolt.Tx) error {
		if q.upload(tx) == nil {
			refused = noSuchUpload()
		}
		return nil
	})
	return refused
}

func (q *request) copyPart() (content, *Error) {
	from, err := q.copySource()
	if err != nil {
		return content{}, err
	}
	at, length := int64(0), from.Size
	if text := q.r.Header.Get("X-Amz-Copy-Source-Range"); text != "" {
		var first, last int64
		if n, _ := fmt.Sscanf(text, "bytes=%d-%d", &first, &last); n != 2 || first < 0 || last < first || last >= from.Size {
			return content{}, invalidArgument("The x-amz-copy-source-range value must be of the form bytes=first-last where first and last are the zero-based offsets of the first and last bytes to copy")
		}
		at, length = first, last-first+1
	}
	if length > rules.MostPart {
		return content{}, refuse(http.StatusBadRequest, "EntityTooLarge", "Your proposed upload exceeds the maximum allowed size")
	}
	return q.copyContent(from, at, length)
}

// keepPart stores a part, and replaces an earlier one with the same number.
func (q *request) keepPart(p partRecord) *Error {
	var before *partRecord
	err := q.store.db.Update(func(tx *bbolt.Tx) error {
		u := q.upload(tx)
		if u == nil {
			return noSuchUpload()
		}
		parts := table(tx, partTable, q.name)
		before = read[partRecord](parts, partKey(u.ID, p.Number))
		return write(parts, partKey(u.ID, p.Number), p)
	})
	if err == nil && before != nil {
		q.store.drop(before.File)
	}
	return asError(err)
}

// partsOf returns the received parts of an upload, in order.
func partsOf(tx *bbolt.Tx, bucket, id string) (list []partRecord) {
	parts, prefix := table(tx, partTable, bucket), []byte(id+"\x00")
	c := parts.Cursor()
	for k, _ := c.Seek(prefix); k != nil && bytes.HasPrefix(k, prefix); k, _ = c.Next() {
		if p := read[partRecord](parts, k); p != nil {
			list = append(list, *p)
		}
	}
	return list
}

// forget deletes the records of an upload, and returns the content files of its parts.
func forget(tx *bbolt.Tx, bucket string, u uploadRecord) (files []string, err error) {
	parts := table(tx, partTable, bucket)
	for _, p := range partsOf(tx, bucket, u.ID) {
		files = append(files, p.File)
		err = errors.Join(err, parts.Delete(partKey(u.ID, p.Number)))
	}
	return files, errors.Join(err, table(tx, uploadTable, bucket).Delete(uploadKey(u.Key, u.ID)))
}

func (q *request) abortUpload() *Error {
	var files []string
	err := q.store.db.Update(func(tx *bbolt.Tx) (err error) {
		u := q.upload(tx)
		if u == nil {
			return noSuchUpload()
		}
		files, err = forget(tx, q.name, *u)
		return err
	})
	if err != nil {
		return asError(err)
	}
	q.store.drop(files...)
	q.w.WriteHeader(http.StatusNoContent)
	return nil
}

// completeUpload creates the object from the parts that the request lists.
func (q *request) completeUpload() *Error {
	var asked struct {
		Part []struct {
			PartNumber int
			ETag       string
		}
	}
	if err := q.read(&asked); err != nil {
		return err
	}
	if len(asked.Part) == 0 {
		return refuse(http.StatusBadRequest, "MalformedXML", "The XML you provided was not well-formed or did not validate against our published schema.")
	}
	var u *uploadRecord
	var there []partRecord
	_ = q.store.db.View(func(tx *bbolt.Tx) error {
		if u = q.upload(tx); u != nil {
			there = partsOf(tx, q.name, u.ID)
		}
		return nil
	})
	if u == nil {
		return noSuchUpload()
	}
	arrived := map[int]partRecord{}
	for _, p := range there {
		arrived[p.Number] = p
	}
	var chosen []partRecord
	for i, a := range asked.Part {
		p, known := arrived[a.PartNumber]
		switch {
		case i > 0 && a.PartNumber <= asked.Part[i-1].PartNumber:
			return refuse(http.StatusBadRequest, "InvalidPartOrder", "The list of parts was not in ascending order. The parts list must be specified in order by part number.")
		case !known || strings.Trim(a.ETag, `"`) != p.ETag:
			return refuse(http.StatusBadRequest, "InvalidPart", "One or more of the specified parts could not be found. The part might not have been uploaded, or the specified entity tag might not have matched the part's entity tag.")
		case i < len(asked.Part)-1 && p.Size < rules.LeastPart:
			return refuse(http.StatusBadRequest, "EntityTooSmall", "Your proposed upload is smaller than the minimum allowed object size.")
		}
		chosen = append(chosen, p)
	}
	return q.join(*u, chosen)
}

// join writes the record of the object and deletes the upload in one transaction.
func (q *request) join(u uploadRecord, parts []partRecord) *Error {
	o := objectRecord{Key: u.Key, description: u.description}
	var readers []io.Reader
	sum := md5.New()
	for _, p := range parts {
		f, err := q.store.open(p.File)
		if err != nil {
			return noSuchUpload() // completed or aborted by another request
		}
		defer f.Close()
		raw, _ := hex.DecodeString(p.ETag)
		sum.Write(raw)
		readers = append(readers, f)
		o.PartSizes = append(o.PartSizes, p.Size)
	}
	c, err := q.store.receive(io.MultiReader(readers...))
	if err != nil {
		return asError(err)
	}
	o.ETag = fmt.Sprintf("%x-%d", sum.Sum(nil), len(parts))
	var files []string
	refused := q.place(&o, c, func(tx *bbolt.Tx) (err error) {
		if q.upload(tx) == nil {
			return noSuchUpload()
		}
		files, err = forget(tx, q.name, u)
		return err
	})
	if refused != nil {
		return refused
	}
	q.store.drop(files...)
	answer(q.w, http.StatusOK, struct {
		XMLName           xml.Name `xml:"CompleteMultipartUploadResult"`
		Bucket, Key, ETag string
	}{Bucket: q.name, Key: o.Key, ETag: `"` + o.ETag + `"`})
	return nil
}
