package cloud

import (
	"crypto/md5"
	"crypto/rand"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"go.etcd.io/bbolt"
)

// store keeps the records of buckets and objects in one database file, and each content in a file of its own
// under a unique number. Content files never change.
type store struct {
	dir string
	db  *bbolt.DB
}

// Tables of the database.
var (
	bucketTable = []byte("buckets") // key: bucket name
	// Each of the others has one sub-table per bucket.
	objectTable  = []byte("objects")  // key: object key
	versionTable = []byte("versions") // earlier versions; key: object key, zero byte, descending number
	uploadTable  = []byte("uploads")  // key: object key, zero byte, upload number
	partTable    = []byte("parts")    // key: upload number, zero byte, part number
)

// bucketRecord is a bucket.
type bucketRecord struct {
	Name       string
	Account    string
	Region     string
	Created    time.Time
	Versioning string // Enabled, Suspended or ""
	Quota      int64  // in bytes; 0: none
	Used       int64  // by current objects, in bytes
	Retention  int    `json:",omitempty"` // days for which no version can be deleted; 0: none
}

// objectRecord is an object, or an earlier version.
type objectRecord struct {
	Key       string `json:",omitempty"`
	Version   string
	ETag      string // without quotation marks
	Size      int64
	Modified  time.Time
	Marker    bool    `json:",omitempty"` // delete marker
	File      string  `json:",omitempty"` // content file
	PartSizes []int64 `json:",omitempty"`
	description
}

// description is what a client says of an object when it makes it.
type description struct {
	Type    string            `json:",omitempty"`
	Meta    map[string]string `json:",omitempty"` // of the client's own
	Headers map[string]string `json:",omitempty"` // see keptHeaders
}

// uploadRecord is an open multipart upload.
type uploadRecord struct {
	Key, ID string
	Begun   time.Time
	description
}

// partRecord is a received part.
type partRecord struct {
	Number   int
	ETag     string
	Size     int64
	Modified time.Time
	File     string
}

func openStore(dir string) (*store, error) {
	for _, sub := range []string{dir, filepath.Join(dir, "contents"), filepath.Join(dir, "arriving")} {
		if err := os.MkdirAll(sub, 0o700); err != nil {
			return nil, err
		}
	}
	// No flush: data survives the end of the process. The end of the machine is not simulated.
	db, err := bbolt.Open(filepath.Join(dir, "records"), 0o600, &bbolt.Options{Timeout: time.Second, NoSync: true, NoFreelistSync: true})
	if err != nil {
		return nil, err
	}
	s := &store{dir, db}
	err = db.Update(func(tx *bbolt.Tx) error {
		for _, table := range [][]byte{bucketTable, objectTable, versionTable, uploadTable, partTable} {
			if _, err := tx.CreateBucketIfNotExists(table); err != nil {
				return err
			}
		}
		return nil
	})
	if err == nil {
		err = s.dropArriving()
	}
	if err != nil {
		db.Close()
		return nil, err
	}
	return s, nil
}

func (s *store) close() error { return s.db.Close() }

// dropArriving deletes content that was only partly received when a process ended.
func (s *store) dropArriving() error {
	left, err := os.ReadDir(filepath.Join(s.dir, "arriving"))
	for _, e := range left {
		err = errors.Join(err, os.Remove(filepath.Join(s.dir, "arriving", e.Name())))
	}
	return err
}

// content is received content that no record refers to yet.
type content struct {
	File string
	ETag string
	Size int64
}

// receive stores content, whole or not at all. The caller must drop the file or refer to it from a record.
func (s *store) receive(from io.Reader) (content, error) {
	name := rand.Text()
	at := filepath.Join(s.dir, "arriving", name)
	f, err := os.OpenFile(at, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return content{}, err
	}
	sum := md5.New()
	n, err := io.Copy(io.MultiWriter(f, sum), from)
	err = errors.Join(err, f.Close())
	if err == nil {
		err = os.Rename(at, s.file(name))
	}
	if err != nil {
		os.Remove(at)
		return content{}, err
	}
	return content{name, hex.EncodeToString(sum.Sum(nil)), n}, nil
}

func (s *store) file(name string) string { return filepath.Join(s.dir, "contents", name) }

// drop deletes content files that are no longer used.
func (s *store) drop(names ...string) {
	for _, name := range names {
		if name != "" {
			_ = os.Remove(s.file(name)) // a leftover file only uses space
		}
	}
}

// open opens a content file. It stays readable when it is dropped meanwhile.
func (s *store) open(name string) (*os.File, error) {
	if name == "" {
		return nil, fs.ErrNotExist
	}
	return os.Open(s.file(name))
}

// bucketIn reads a bucket; nil when there is none.
func bucketIn(tx *bbolt.Tx, name string) *bucketRecord {
	return read[bucketRecord](tx.Bucket(bucketTable), []byte(name))
}

// table returns a sub-table of a bucket. It exists as long as the bucket.
func table(tx *bbolt.Tx, kind []byte, bucket string) *bbolt.Bucket {
	return tx.Bucket(kind).Bucket([]byte(bucket))
}

func read[T any](b *bbolt.Bucket, key []byte) *T {
	if text := b.Get(key); text != nil {
		return parse[T](text)
	}
	return nil
}

func parse[T any](text []byte) *T {
	value := new(T)
	if json.Unmarshal(text, value) != nil {
		return nil
	}
	return value
}

func write(b *bbolt.Bucket, key []byte, value any) error {
	text, err := json.Marshal(value)
	if err != nil {
		return err
	}
	return b.Put(key, text)
}

// earlierKey is the key of an earlier version. Newer versions of an object sort first.
func earlierKey(key string, number uint64) []byte {
	return binary.BigEndian.AppendUint64(append([]byte(key), 0), ^number)
}

// uploadKey is the key of an upload.
func uploadKey(key, id string) []byte { return []byte(key + "\x00" + id) }

func partKey(id string, number int) []byte {
	return binary.BigEndian.AppendUint16([]byte(id+"\x00"), uint16(number))
}

// contents are the content files of a record.
func (s *store) contents() ([]os.DirEntry, error) {
	return os.ReadDir(filepath.Join(s.dir, "contents"))
}
