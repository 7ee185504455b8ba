package cloud

import (
	"bytes"
	"encoding/xml"
	"net/http"
	"strconv"

	"go.etcd.io/bbolt"
)

// listUploads lists open multipart uploads.
func (q *request) listUploads() *Error {
	query := q.r.URL.Query()
	most, err := atMost(query.Get("max-uploads"))
	if err != nil {
		return err
	}
	type item struct {
		Key, UploadId, Initiated, StorageClass string
		Owner, Initiator                       owner
	}
	var out struct {
		XMLName                   xml.Name `xml:"ListMultipartUploadsResult"`
		Bucket, Prefix            string
		KeyMarker, UploadIdMarker string
		NextKeyMarker             string `xml:",omitempty"`
		NextUploadIdMarker        string `xml:",omitempty"`
		MaxUploads                int
		IsTruncated               bool
		Upload                    []item
	}
	prefix, key, id := query.Get("prefix"), query.Get("key-marker"), query.Get("upload-id-marker")
	out.Bucket, out.Prefix, out.KeyMarker, out.UploadIdMarker, out.MaxUploads = q.name, prefix, key, id, most
	who := ownerOf(q.key.Account)
	_ = q.store.db.View(func(tx *bbolt.Tx) error {
		uploads := table(tx, uploadTable, q.name)
		if uploads == nil {
			return nil
		}
		c := uploads.Cursor()
		for k, _ := c.Seek([]byte(prefix)); k != nil && bytes.HasPrefix(k, []byte(prefix)); k, _ = c.Next() {
			u := read[uploadRecord](uploads, k)
			if u == nil || u.Key < key || u.Key == key && (id == "" || u.ID <= id) && key != "" {
				continue
			}
			if len(out.Upload) == most {
				out.IsTruncated = true
				return nil
			}
			out.Upload = append(out.Upload, item{u.Key, u.ID, u.Begun.Format(timeForm), "STANDARD", who, who})
			out.NextKeyMarker, out.NextUploadIdMarker = u.Key, u.ID
		}
		return nil
	})
	answer(q.w, http.StatusOK, out)
	return nil
}

// listParts lists the received parts of an upload.
func (q *request) listParts() *Error {
	query := q.r.URL.Query()
	most, err := atMost(query.Get("max-parts"))
	if err != nil {
		return err
	}
	after, _ := strconv.Atoi(query.Get("part-number-marker"))
	type item struct {
		PartNumber         int
		LastModified, ETag string
		Size               int64
	}
	var out struct {
		XMLName               xml.Name `xml:"ListPartsResult"`
		Bucket, Key, UploadId string
		PartNumberMarker      int
		NextPartNumberMarker  int
		MaxParts              int
		IsTruncated           bool
		Part                  []item
	}
	var there bool
	_ = q.store.db.View(func(tx *bbolt.Tx) error {
		u := q.upload(tx)
		if there = u != nil; !there {
			return nil
		}
		out.Bucket, out.Key, out.UploadId, out.MaxParts, out.PartNumberMarker = q.name, u.Key, u.ID, most, after
		for _, p := range partsOf(tx, q.name, u.ID) {
			switch {
			case p.Number <= after:
			case len(out.Part) == most:
				out.IsTruncated = true
				return nil
			default:
				out.Part = append(out.Part, item{p.Number, p.Modified.Format(timeForm), `"` + p.ETag + `"`, p.Size})
				out.NextPartNumberMarker = p.Number
			}
		}
		return nil
	})
	if !there {
		return noSuchUpload()
	}
	answer(q.w, http.StatusOK, out)
	return nil
}
