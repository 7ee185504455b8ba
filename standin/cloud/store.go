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

// store keeps buckets, and what is known of objects, in one file, and each content in a file of its own,
// under a number that nobody else has. What a file of contents holds never changes.
type store struct {
	dir string
	db  *bbolt.DB
}

// Tables of the file, each with records by a key.
var (
	bucketTable = []byte("buckets") // by name
	// The others hold a table for each bucket.
	objectTable  = []byte("objects")  // by key
	versionTable = []byte("versions") // earlier ones: by key, a zero byte, and a number that goes down
	uploadTable  = []byte("uploads")  // by key, a zero byte, and the number of the upload
	partTable    = []byte("parts")    // by the number of the upload, a zero byte, and that of the part
)

// bucketRecord is a bucket.
type bucketRecord struct {
	Name       string
	Account    string
	Region     string
	Created    time.Time
	Versioning string // Enabled, Suspended or ""
	Quota      int64  // in bytes; 0 is none
	Used       int64  // by current objects, in bytes
}

// objectRecord is an object, or an earlier version of one.
type objectRecord struct {
	Key       string `json:",omitempty"`
	Version   string
	ETag      string // without quotation marks
	Size      int64
	Modified  time.Time
	Type      string            `json:",omitempty"`
	Meta      map[string]string `json:",omitempty"`
	Marker    bool              `json:",omitempty"` // it says that the object was deleted
	File      string            `json:",omitempty"` // of its content
	PartSizes []int64           `json:",omitempty"`
}

// uploadRecord is an upload in parts that was not completed.
type uploadRecord struct {
	Key, ID string
	Begun   time.Time
	Type    string            `json:",omitempty"`
	Meta    map[string]string `json:",omitempty"`
}

// partRecord is a part that has arrived.
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
	// What a process that ended has written is kept without a flush, too; the end of the machine is not played.
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

// dropArriving removes what had arrived in part when a process ended.
func (s *store) dropArriving() error {
	left, err := os.ReadDir(filepath.Join(s.dir, "arriving"))
	for _, e := range left {
		err = errors.Join(err, os.Remove(filepath.Join(s.dir, "arriving", e.Name())))
	}
	return err
}

// content is one that has arrived and belongs to nothing yet.
type content struct {
	File string
	ETag string
	Size int64
}

// receive stores content that arrives, whole or not at all. Its file must be dropped, or belong to a record.
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

// drop removes contents that belong to nothing any more.
func (s *store) drop(names ...string) {
	for _, name := range names {
		if name != "" {
			_ = os.Remove(s.file(name)) // it costs room if it stays, and is nobody's
		}
	}
}

// open opens a content. It stays readable when it is dropped meanwhile.
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

// table is one of a bucket; it is there for as long as the bucket is.
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

// earlierKey is that of an earlier version: of one object, the newest comes first.
func earlierKey(key string, number uint64) []byte {
	return binary.BigEndian.AppendUint64(append([]byte(key), 0), ^number)
}

// uploadKey is that of an upload.
func uploadKey(key, id string) []byte { return []byte(key + "\x00" + id) }

func partKey(id string, number int) []byte {
	return binary.BigEndian.AppendUint16([]byte(id+"\x00"), uint16(number))
}

// contents are the files of contents that are kept.
func (s *store) contents() ([]os.DirEntry, error) {
	return os.ReadDir(filepath.Join(s.dir, "contents"))
}
