package cloud

import (
	"errors"
	"fmt"
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
	Delay    time.Duration `json:"delay"`    // before each answer, in nanoseconds
	Errors   float64       `json:"errors"`   // share of requests that fail by the service's fault, 0 to 1
	Outage   bool          `json:"outage"`   // connections end without an answer
	Throttle bool          `json:"throttle"` // all are asked to come later
	Stale    time.Duration `json:"stale"`    // what was written within so long is not listed yet, in nanoseconds
	// CutAfter ends the connection of each upload after so many bytes of its content; 0 never.
	CutAfter int64 `json:"cutAfter"`
}

// check returns an error unless dials can stand so.
func (s Settings) check() error {
	switch {
	case s.Delay < 0 || s.Delay > mostDelay || s.Stale < 0 || s.Stale > mostDelay:
		return fmt.Errorf("a delay is at most %v", mostDelay)
	case s.Errors < 0 || s.Errors > 1:
		return errors.New("errors is a share, from 0 to 1")
	case s.CutAfter < 0:
		return errors.New("cutAfter is a number of bytes")
	}
	return nil
}

const mostDelay = time.Hour

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

// meddle does to a request what the dials say; far is how long each answer takes anyway.
func (d *Dials) meddle(w *outlet, r *http.Request, far time.Duration) *Error {
	s := d.Now()
	if delay := s.Delay + far; delay > 0 {
		select {
		case <-r.Context().Done():
		case <-time.After(delay):
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
