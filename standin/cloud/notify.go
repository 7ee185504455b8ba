package cloud

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/url"
	"time"

	"bridgespan/guard"
)

// Receiver is where a bucket sends its events: by POST of documents as the S3 API reference describes them ("Event message structure").
type Receiver struct {
	Bucket string `json:"bucket"`
	URL    string `json:"url"`
	Token  string `json:"token"` // sent as a bearer token (RFC 6750)
}

// Bounds of events.
const (
	mostEvents    = 10_000 // that wait; more are dropped, as services may do
	eventsAtOnce  = 100
	eventsTimeout = 10 * time.Second
	eventsPause   = 100 * time.Millisecond // during which events are gathered, and the first pause after a failure
	mostTries     = 8
)

// receiver is a receiver with the events that wait for it.
type receiver struct {
	Receiver
	events chan eventRecord
	stop   context.CancelFunc
}

// eventRecord is one event.
type eventRecord struct {
	EventVersion string    `json:"eventVersion"`
	EventSource  string    `json:"eventSource"`
	Region       string    `json:"awsRegion"`
	EventTime    time.Time `json:"eventTime"`
	EventName    string    `json:"eventName"`
	S3           struct {
		Bucket struct {
			Name string `json:"name"`
		} `json:"bucket"`
		Object struct {
			Key string `json:"key"` // escaped like the query of a URL
		} `json:"object"`
	} `json:"s3"`
}

// SetReceiver sends the events of a bucket to a receiver from now on; without a URL, to nobody.
func (c *Cloud) SetReceiver(r Receiver) error {
	if u, err := url.Parse(r.URL); err != nil || r.URL != "" && u.Scheme != "http" && u.Scheme != "https" {
		return errors.Join(fmt.Errorf("%q is not the URL of a receiver", r.URL), err)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if before := c.receivers[r.Bucket]; before != nil {
		before.stop()
		delete(c.receivers, r.Bucket)
	}
	if r.URL == "" {
		return nil
	}
	ctx, stop := context.WithCancel(context.Background())
	to := &receiver{Receiver: r, events: make(chan eventRecord, mostEvents), stop: stop}
	c.receivers[r.Bucket] = to
	guard.Go(func() { to.run(ctx) })
	return nil
}

// endReceivers ends what sends events. c.mu must be held.
func (c *Cloud) endReceivers() {
	for _, r := range c.receivers {
		r.stop()
	}
	clear(c.receivers)
}

// announce queues an event of an object for the receiver of the bucket, if there is one.
func (q *request) announce(name, key string) {
	q.mu.Lock()
	to := q.receivers[q.name]
	q.mu.Unlock()
	if to == nil {
		return
	}
	e := eventRecord{EventVersion: "2.1", EventSource: "bridgespan:standin", Region: q.region, EventTime: q.config.Now().UTC(), EventName: name}
	e.S3.Bucket.Name, e.S3.Object.Key = q.name, url.QueryEscape(key)
	select {
	case to.events <- e:
	default:
	}
}

// run sends events until ctx ends.
func (r *receiver) run(ctx context.Context) {
	for {
		var list []eventRecord
		select {
		case <-ctx.Done():
			return
		case e := <-r.events:
			list = append(list, e)
		}
		gathered := time.After(eventsPause)
	gather:
		for len(list) < eventsAtOnce {
			select {
			case e := <-r.events:
				list = append(list, e)
			case <-gathered:
				break gather
			}
		}
		r.deliver(ctx, list)
	}
}

// deliver sends events, again and again while that fails.
func (r *receiver) deliver(ctx context.Context, list []eventRecord) {
	body, err := json.Marshal(map[string]any{"Records": list})
	if err != nil {
		slog.Error("events of a bucket cannot be written", "bucket", r.Bucket, "error", err)
		return
	}
	pause := eventsPause
	for range mostTries {
		if err = r.post(ctx, body); err == nil {
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(pause):
		}
		pause *= 2
	}
	slog.Warn("events of a bucket were not delivered", "bucket", r.Bucket, "events", len(list), "error", err)
}

func (r *receiver) post(ctx context.Context, body []byte) error {
	ctx, cancel := context.WithTimeout(ctx, eventsTimeout)
	defer cancel()
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, r.URL, bytes.NewReader(body))
	if err != nil {
		return err
	}
	request.Header.Set("Content-Type", "application/json")
	request.Header.Set("Authorization", "Bearer "+r.Token)
	answer, err := http.DefaultClient.Do(request)
	if err != nil {
		return err
	}
	answer.Body.Close()
	if answer.StatusCode >= 300 {
		return fmt.Errorf("the receiver answers %s", answer.Status)
	}
	return nil
}
