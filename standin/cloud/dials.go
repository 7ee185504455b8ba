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

// Dials are the faults of a cloud, as real services show them now and then. The zero value has no fault.
// Faults can be changed at any time.
type Dials struct {
	mu  sync.Mutex
	set Settings
}

// Settings are the values of all faults.
type Settings struct {
	Delay    time.Duration `json:"delay"`    // added to each answer, in nanoseconds
	Errors   float64       `json:"errors"`   // share of requests that fail with an internal error, 0 to 1
	Outage   bool          `json:"outage"`   // connections are closed without an answer
	Throttle bool          `json:"throttle"` // every request is answered with SlowDown
	Stale    time.Duration `json:"stale"`    // new objects are missing in listings for this long, in nanoseconds
	// CutAfter closes the connection of each upload after this many bytes of content; 0: never.
	CutAfter int64 `json:"cutAfter"`
}

// check validates settings.
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

// Turn replaces the settings.
func (d *Dials) Turn(s Settings) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.set = s
}

// Now returns the settings.
func (d *Dials) Now() Settings {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.set
}

// applyFaults applies the faults to a request; far is the delay of the region.
func (d *Dials) applyFaults(w *closableWriter, r *http.Request, far time.Duration) *Error {
	s := d.Now()
	if delay := s.Delay + far; delay > 0 {
		select {
		case <-r.Context().Done():
		case <-time.After(delay):
		}
	}
	switch {
	case s.Outage:
		w.closeConnection()
		return errConnectionClosed
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

// errConnectionClosed is returned after the connection was closed on purpose.
var errConnectionClosed = &Error{Code: "cut off"}

// closableWriter is a response writer that can close its connection.
type closableWriter struct {
	http.ResponseWriter
	gone bool
}

func (o *closableWriter) Unwrap() http.ResponseWriter { return o.ResponseWriter }

// closeConnection closes the connection without an answer.
func (o *closableWriter) closeConnection() {
	o.gone = true
	if conn, _, err := http.NewResponseController(o.ResponseWriter).Hijack(); err == nil {
		conn.Close()
	}
}

// cut is request content whose connection is closed after some bytes.
type cut struct {
	io.ReadCloser
	left int64
	w    *closableWriter
}

func (c *cut) Read(p []byte) (int, error) {
	if c.left <= 0 {
		if !c.w.gone {
			c.w.closeConnection()
		}
		return 0, errConnectionClosed
	}
	n, err := c.ReadCloser.Read(p[:min(int64(len(p)), c.left)])
	c.left -= int64(n)
	return n, err
}
