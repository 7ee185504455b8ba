package records

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"bridgespan/core/changes"
	"bridgespan/core/fault"
	"bridgespan/model"
)

// Record writes what was changed, and tells everybody who watches the topic.
// before and after are stored as JSON; nil means that there was, or is, nothing.
func (q Queries) Record(ctx context.Context, c model.Change, topic string) error {
	return q.RecordAll(ctx, []model.Change{c}, topic, c.Subject)
}

func state(v any) (any, error) {
	if v == nil {
		return nil, nil
	}
	return json.Marshal(v)
}

const changeColumns = `SELECT id, at, who, action, subject, before_state, after_state FROM changes`

func scanChange(s scanner) (c model.Change, err error) {
	var was, is []byte
	if err = s.Scan(&c.ID, &c.At, &c.Who, &c.Action, &c.Subject, &was, &is); err != nil {
		return c, err
	}
	if was != nil {
		c.Before = json.RawMessage(was)
	}
	if is != nil {
		c.After = json.RawMessage(is)
	}
	if c.Words = changes.Words(was, is); c.Words == nil {
		c.Words = []string{}
	}
	return c, nil
}

// Since adds to a fault that says that something was changed by somebody else
// who that was, when, and what they changed after it had a version.
func (q Queries) Since(ctx context.Context, err error, subject string, version int64) error {
	var e *fault.Error
	if !errors.As(err, &e) || e.Kind != fault.Stale {
		return err
	}
	rows, queryErr := q.run.QueryContext(ctx, changeColumns+` WHERE subject = ? AND JSON_VALUE(before_state, '$.version') >= ? ORDER BY id DESC LIMIT 5`, subject, version)
	list, queryErr := collect(rows, queryErr, scanChange)
	if queryErr != nil || len(list) == 0 {
		return err
	}
	told := *e
	slices.Reverse(list)
	for _, c := range list {
		what := strings.Join(c.Words, ", ")
		switch {
		case c.After == nil:
			what = "it was removed"
		case what == "":
			what = c.Action
		}
		told.Problem += fmt.Sprintf("; %s, %s: %s", c.Who, c.At.UTC().Format("2 Jan 15:04 UTC"), what)
	}
	return &told
}

// Changes lists changes, newest first, before the number given (0 for the newest).
func (q Queries) Changes(ctx context.Context, before int64, limit int) ([]model.Change, error) {
	rows, err := q.run.QueryContext(ctx, changeColumns+` WHERE ? = 0 OR id < ? ORDER BY id DESC LIMIT ?`, before, before, limit)
	return collect(rows, err, scanChange)
}

// eventLife is how long events are kept: longer than any watcher may be away
// before it reads everything again.
const eventLife = time.Hour

// NamespaceChanges lists the changes of a namespace and of its entries, newest
// first: before a number unless it is 0, and not before the number from.
func (q Queries) NamespaceChanges(ctx context.Context, name string, before, from int64, limit int) ([]model.Change, error) {
	rows, err := q.run.QueryContext(ctx, changeColumns+` WHERE (? = 0 OR id < ?) AND id >= ? AND (subject = ? AND action LIKE 'namespace.%' OR subject LIKE CONCAT('/', ?, '/%') AND (action LIKE 'entry.%' OR action LIKE 'location.%')) ORDER BY id DESC LIMIT ?`,
		before, before, from, name, name, limit)
	return collect(rows, err, scanChange)
}

// Tell adds an event for everybody who watches a topic.
func (q Queries) Tell(ctx context.Context, topic, subject string, now time.Time) error {
	return q.tell(ctx, topic, subject, false, now)
}

func (q Queries) tell(ctx context.Context, topic, subject string, recorded bool, now time.Time) error {
	_, _, err := q.exec(ctx, `INSERT INTO events (at, topic, subject, recorded) VALUES (?, ?, ?, ?)`, now, topic, subject, recorded)
	return err
}

// Events lists events after a number.
func (q Queries) Events(ctx context.Context, after int64) ([]model.Event, error) {
	rows, err := q.run.QueryContext(ctx, `SELECT id, topic, subject, recorded FROM events WHERE id > ? ORDER BY id LIMIT 1000`, after)
	return collect(rows, err, func(s scanner) (e model.Event, err error) {
		err = s.Scan(&e.ID, &e.Topic, &e.Subject, &e.Recorded)
		return e, err
	})
}

// LastEvent is the number of the newest event.
func (q Queries) LastEvent(ctx context.Context) (id int64, err error) {
	err = q.run.QueryRowContext(ctx, `SELECT COALESCE(MAX(id), 0) FROM events`).Scan(&id)
	return id, unavailable(err)
}

// ForgetEvents removes old events.
func (q Queries) ForgetEvents(ctx context.Context, now time.Time) error {
	_, _, err := q.exec(ctx, `DELETE FROM events WHERE at < ?`, now.Add(-eventLife))
	return err
}
