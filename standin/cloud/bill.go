package cloud

import (
	"encoding/json"
	"io"
	"net/http"
	"slices"
	"strings"

	"go.etcd.io/bbolt"
)

// gigabyte is what prices are for, in bytes.
const gigabyte = 1e9

// Bill is what a provider would charge for a bucket.
type Bill struct {
	Bucket      string  `json:"bucket"`
	StoredBytes int64   `json:"storedBytes"` // of current objects
	Stored      float64 `json:"stored"`      // price for a month
	OutBytes    int64   `json:"outBytes"`    // read since the start of the cloud
	Out         float64 `json:"out"`         // price of that
}

// countOut counts bytes that were read from a bucket.
func (c *Cloud) countOut(bucket string, bytes int64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.out == nil {
		c.out = map[string]int64{}
	}
	c.out[bucket] += bytes
}

// billed counts bytes before they are sent: whoever has received them finds them on the bill.
type billed struct {
	io.Reader
	count func(bytes int64)
}

func (b billed) Read(p []byte) (int, error) {
	n, err := b.Reader.Read(p)
	b.count(int64(n))
	return n, err
}

// Bills returns the bills of all buckets by the prices of their regions, sorted by name.
func (c *Cloud) Bills() (list []Bill, err error) {
	err = c.store.eachBucket(func(b bucketRecord) {
		i := slices.IndexFunc(c.config.Regions, func(r Region) bool { return r.Name == b.Region })
		if i < 0 {
			return
		}
		r := c.config.Regions[i]
		c.mu.Lock()
		out := c.out[b.Name]
		c.mu.Unlock()
		list = append(list, Bill{Bucket: b.Name, StoredBytes: b.Used, Stored: r.StoredPrice * float64(b.Used) / gigabyte, OutBytes: out, Out: r.OutPrice * float64(out) / gigabyte})
	})
	slices.SortFunc(list, func(a, b Bill) int { return strings.Compare(a.Bucket, b.Bucket) })
	return list, err
}

// bills answers with all bills, as JSON.
func (c *Cloud) bills(w http.ResponseWriter, _ *http.Request) {
	list, err := c.Bills()
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(map[string]any{"bills": list})
}

// eachBucket calls do with every bucket.
func (s *store) eachBucket(do func(bucketRecord)) error {
	return s.db.View(func(tx *bbolt.Tx) error {
		b := tx.Bucket(bucketTable)
		return b.ForEach(func(name, _ []byte) error {
			if r := read[bucketRecord](b, name); r != nil {
				do(*r)
			}
			return nil
		})
	})
}
