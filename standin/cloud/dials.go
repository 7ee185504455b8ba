package cloud

import (
	"io"
	"math/rand/v2"
	"net/http"
	"sync"
	"time"
)

// Dials make a cloud behave badly, as real ones do now and then. The zero value does nothing; they can be
// turned at any time.
type Dials struct {
	mu  sync.Mutex
	set Settings
}

// Settings are how dials stand.
type Settings struct {
	Delay    time.Duration // before each answer
	Errors   float64       // share of requests that fail by the service's fault, 0 to 1
	Outage   bool          // connections end without an answer
	Throttle bool          // all are asked to come later
	Stale    time.Duration // what was written within so long is not listed yet
	// CutAfter ends the connection of each upload after so many bytes of its content; 0 never.
	CutAfter int64
}

// Turn sets them.
func (d *Dials) Turn(s Settings) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.set = s
}

// Now is how they stand.
func (d *Dials) Now() Settings {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.set
}

// meddle does to a request what the dials say.
func (d *Dials) meddle(w *outlet, r *http.Request) *Error {
	s := d.Now()
	if s.Delay > 0 {
		select {
		case <-r.Context().Done():
		case <-time.After(s.Delay):
		}
	}
	switch {
	case s.Outage:
		w.hangUp()
		return cutOff
	case s.Throttle:
		return refuse(http.StatusServiceUnavailable, "SlowDown", "Please reduce your request rate.")
	case s.Errors > 0 && rand.Float64() < s.Errors:
		return refuse(http.StatusInternalServerError, "InternalError", "We encountered an internal error. Please try again.")
	}
	if s.CutAfter > 0 {
		r.Body = &cut{r.Body, s.CutAfter, w}
	}
	return nil
}

// cutOff is returned where nobody listens any more.
var cutOff = &Error{Code: "cut off"}

// outlet is where an answer goes, until the connection is cut.
type outlet struct {
	http.ResponseWriter
	gone bool
}

func (o *outlet) Unwrap() http.ResponseWriter { return o.ResponseWriter }

// hangUp ends the connection without a word.
func (o *outlet) hangUp() {
	o.gone = true
	if conn, _, err := http.NewResponseController(o.ResponseWriter).Hijack(); err == nil {
		conn.Close()
	}
}

// cut is the content of a request of which the connection ends after so many bytes.
type cut struct {
	io.ReadCloser
	left int64
	w    *outlet
}

func (c *cut) Read(p []byte) (int, error) {
	if c.left <= 0 {
		if !c.w.gone {
			c.w.hangUp()
		}
		return 0, cutOff
	}
	n, err := c.ReadCloser.Read(p[:min(int64(len(p)), c.left)])
	c.left -= int64(n)
	return n, err
}
