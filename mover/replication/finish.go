package replication

import (
	"context"
	"time"

	"bridgespan/core/acl"
	"bridgespan/core/replica"
	"bridgespan/tree"
)

// finish sets the permissions of what is pending and is in its place, and saves
// the record as it is from now on. brought is the file that was put there, as it
// was before people could reach it; nil when it is the one that was there before.
func (e *Engine) finish(ctx context.Context, r *Replica, name string, rec replica.Record, brought *tree.Entry) error {
	p := rec.Pending
	next := rec
	next.Content, next.Permissions, next.Pending, next.Seen = p.Content, p.Permissions, nil, replica.Seen{}
	if p.Content.Kind != replica.None {
		if err := e.permit(ctx, r, name, &rec, &next); err != nil {
			return err
		}
		if brought == nil {
			entry, there, err := look(ctx, r, name)
			if err != nil {
				return err
			}
			if !there {
				return errMoved
			}
			if next.Seen = seenOf(entry); !isOurs(&rec, entry) { // people were quick; the next scan finds out
				next.Seen = replica.Seen{}
			}
		} else {
			next.Seen = seenOf(*brought)
		}
	}
	c := replica.Change{Replica: r.ID, Records: []replica.Record{next}, Queue: e.outOf(r, 0)}
	inAttic, err := exists(ctx, r, p.Attic)
	if err != nil {
		return err
	}
	if inAttic {
		c.Kept = []replica.Kept{{Path: rec.Key, Attic: p.Attic, Why: reasonOf(&rec)}}
	}
	kept, err := e.discard(ctx, r, &rec)
	if err != nil {
		return err
	}
	c.Kept = append(c.Kept, kept...)
	if err := e.Store.Save(ctx, c); err != nil {
		return &storeError{err}
	}
	return nil
}

// isOurs reports whether an entry is what was left there, and not what people
// made of it since.
func isOurs(rec *replica.Record, entry tree.Entry) bool {
	c := &rec.Pending.Content
	return kindOf(entry) == c.Kind && (c.Kind != replica.File || entry.Size == c.Size && entry.Modified.Sub(c.Modified).Abs() <= replica.TimeTolerance)
}

func reasonOf(rec *replica.Record) replica.Reason {
	switch p := rec.Pending; {
	case rec.Prior():
		return replica.First
	case p.Content.Kind == replica.None:
		return replica.Removed
	case p.Content.Kind != rec.Kind:
		return replica.Replaced
	}
	return replica.Lost
}

// permit gives what is at a path the permissions and the time that its record
// will say. What waited in the intake had them there.
func (e *Engine) permit(ctx context.Context, r *Replica, name string, rec, next *replica.Record) error {
	if rec.Pending.Staged != "" {
		return nil
	}
	want := metaOf(r, next)
	if rec.Kind == next.Kind && rec.Permissions.Same(&next.Permissions) {
		want.Descriptor, want.Attributes = acl.Descriptor{}, nil
	}
	if next.Kind == replica.File {
		entry, err := r.Tree.Stat(ctx, name)
		if err != nil {
			return err
		}
		if entry.Modified.Equal(want.Modified) {
			want.Modified = time.Time{}
		}
	}
	if want.Modified.IsZero() && want.Attributes == nil && want.Descriptor.IsZero() {
		return nil
	}
	return r.Tree.Apply(ctx, name, want)
}

// metaOf is what is set on a file or folder beside its content.
func metaOf(r *Replica, next *replica.Record) tree.Meta {
	attributes := tree.Attributes(next.Permissions.Attributes)
	meta := tree.Meta{Attributes: &attributes}
	if next.Kind == replica.File {
		meta.Modified = next.Modified
	}
	if r.Tree.Capabilities().Descriptors {
		meta.Descriptor = next.Permissions.Descriptor
	}
	return meta
}
