package cloud

import (
	"bytes"
	"encoding/base64"
	"encoding/xml"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"go.etcd.io/bbolt"
)

// mostListed is the maximum number of keys in one answer.
const mostListed = 1000

// atMost reads the maximum number of keys that a client requests.
func atMost(text string) (int, *Error) {
	if text == "" {
		return mostListed, nil
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < 0 {
		return 0, invalidArgument("Provided max-keys not an integer or within integer range")
	}
	return min(n, mostListed), nil
}

// listing is the state of one listing request.
type listing struct {
	prefix, delimiter, after string
	most                     int
	encode                   func(string) string

	items     []objectRecord
	common    []string
	truncated bool
	last      string // the last name or common prefix that was listed
}

// ask reads the parameters of a listing.
func (q *request) ask(query url.Values, after string) (*listing, *Error) {
	l := &listing{prefix: query.Get("prefix"), delimiter: query.Get("delimiter"), after: after, encode: func(s string) string { return s }}
	switch query.Get("encoding-type") {
	case "":
	case "url":
		l.encode = func(s string) string { return escape(s, true) }
	default:
		return nil, invalidArgument("Invalid Encoding Method specified in Request")
	}
	var err *Error
	l.most, err = atMost(query.Get("max-keys"))
	return l, err
}

// run walks through the keys of a table in order. Keys that contain the delimiter after the prefix are
// grouped into one common prefix.
func (l *listing) run(c *bbolt.Cursor, hidden func(objectRecord) bool) {
	if l.most == 0 {
		return
	}
	from := l.prefix
	if l.after > from {
		from = l.after
	}
	for k, v := c.Seek([]byte(from)); k != nil && bytes.HasPrefix(k, []byte(l.prefix)); {
		key := string(k)
		if key <= l.after && l.after != "" {
			k, v = c.Next()
			continue
		}
		o := parse[objectRecord](v)
		if o == nil || o.Marker || hidden(*o) {
			k, v = c.Next()
			continue
		}
		group, grouped := l.group(key)
		if grouped && group <= l.after { // the group was listed before
			k, v = c.Seek(beyond(group))
			continue
		}
		if len(l.items)+len(l.common) == l.most {
			l.truncated = true
			return
		}
		if grouped {
			l.common, l.last = append(l.common, group), group
			k, v = c.Seek(beyond(group))
			continue
		}
		l.items, l.last = append(l.items, *o), key
		k, v = c.Next()
	}
}

// group returns the common prefix of a key, if it has one.
func (l *listing) group(key string) (string, bool) {
	if l.delimiter == "" {
		return "", false
	}
	rest := key[len(l.prefix):]
	i := strings.Index(rest, l.delimiter)
	if i < 0 {
		return "", false
	}
	return key[:len(l.prefix)+i+len(l.delimiter)], true
}

// beyond returns the first possible key after all keys with a prefix.
func beyond(prefix string) []byte {
	end := []byte(prefix)
	for i := len(end) - 1; i >= 0; i-- {
		if end[i] < 0xff {
			end[i]++
			return end[:i+1]
		}
	}
	return []byte{0xff, 0xff}
}

type listedObject struct {
	Key, LastModified, ETag string
	Size                    int64
	StorageClass            string
	Owner                   *owner `xml:",omitempty"`
}

type commonPrefix struct{ Prefix string }

func (l *listing) contents(account string) (list []listedObject) {
	for _, o := range l.items {
		item := listedObject{l.encode(o.Key), o.Modified.Format(timeForm), `"` + o.ETag + `"`, o.Size, "STANDARD", nil}
		if account != "" {
			item.Owner = &owner{account, account}
		}
		list = append(list, item)
	}
	return list
}

func (l *listing) prefixes() (list []commonPrefix) {
	for _, p := range l.common {
		list = append(list, commonPrefix{l.encode(p)})
	}
	return list
}

// list lists the objects of a bucket, for version 1 and version 2 of the operation.
func (q *request) list(query url.Values) *Error {
	second := query.Get("list-type") == "2"
	after := query.Get("marker")
	if second {
		after = query.Get("start-after")
		if token := query.Get("continuation-token"); query.Has("continuation-token") {
			text, err := base64.RawURLEncoding.DecodeString(token)
			if err != nil || token == "" {
				return invalidArgument("The continuation token provided is incorrect")
			}
			after = string(text)
		}
	}
	l, err := q.ask(query, after)
	if err != nil {
		return err
	}
	fresh := q.config.Now().Add(-q.dials.Now().Stale)
	stale := q.dials.Now().Stale > 0
	_ = q.store.db.View(func(tx *bbolt.Tx) error {
		objects := table(tx, objectTable, q.name)
		if objects == nil {
			return nil
		}
		l.run(objects.Cursor(), func(o objectRecord) bool { return stale && o.Modified.After(fresh) })
		return nil
	})
	if second {
		q.answerSecond(l, query)
	} else {
		q.answerFirst(l, query)
	}
	return nil
}

func (q *request) answerSecond(l *listing, query url.Values) {
	out := struct {
		XMLName               xml.Name `xml:"ListBucketResult"`
		Name, Prefix          string
		Delimiter             string `xml:",omitempty"`
		StartAfter            string `xml:",omitempty"`
		ContinuationToken     string `xml:",omitempty"`
		NextContinuationToken string `xml:",omitempty"`
		EncodingType          string `xml:",omitempty"`
		KeyCount, MaxKeys     int
		IsTruncated           bool
		Contents              []listedObject
		CommonPrefixes        []commonPrefix
	}{Name: q.name, Prefix: l.encode(l.prefix), Delimiter: l.encode(l.delimiter), StartAfter: l.encode(query.Get("start-after")), ContinuationToken: query.Get("continuation-token"),
		EncodingType: query.Get("encoding-type"), KeyCount: len(l.items) + len(l.common), MaxKeys: l.most, IsTruncated: l.truncated, CommonPrefixes: l.prefixes()}
	account := ""
	if query.Get("fetch-owner") == "true" {
		account = q.key.Account
	}
	out.Contents = l.contents(account)
	if l.truncated {
		out.NextContinuationToken = base64.RawURLEncoding.EncodeToString([]byte(l.last))
	}
	answer(q.w, http.StatusOK, out)
}

func (q *request) answerFirst(l *listing, query url.Values) {
	out := struct {
		XMLName        xml.Name `xml:"ListBucketResult"`
		Name, Prefix   string
		Marker         string
		NextMarker     string `xml:",omitempty"`
		Delimiter      string `xml:",omitempty"`
		EncodingType   string `xml:",omitempty"`
		MaxKeys        int
		IsTruncated    bool
		Contents       []listedObject
		CommonPrefixes []commonPrefix
	}{Name: q.name, Prefix: l.encode(l.prefix), Marker: l.encode(l.after), Delimiter: l.encode(l.delimiter), EncodingType: query.Get("encoding-type"),
		MaxKeys: l.most, IsTruncated: l.truncated, Contents: l.contents(q.key.Account), CommonPrefixes: l.prefixes()}
	if l.truncated {
		out.NextMarker = l.encode(l.last)
	}
	answer(q.w, http.StatusOK, out)
}
