package replication

import (
	"context"
	"time"

	"bridgespan/core/acl"
	"bridgespan/core/replica"
	"bridgespan/tree"
)

// finish saves the record of what is pending and is in its place, as it is from
// now on. brought is the file that was put there, as it was before people could
// reach it; nil when it is one that was there before, which is given its
// permissions and time now. tell are the lanes that have to hear of it.
func (e *Engine) finish(ctx context.Context, r *Replica, name string, rec replica.Record, brought *tree.Entry, tell []replica.Lane) error {
	p := rec.Pending
	next := rec
	next.Content, next.Permissions, next.Pending, next.Seen = p.Content, p.Permissions, nil, replica.Seen{}
	switch {
	case p.Content.Kind == replica.None:
	case brought != nil:
		next.Seen = e.seenOf(*brought)
	default:
		var err error
		if next.Seen, err = e.permit(ctx, r, name, &rec); err != nil {
			return err
		}
	}
	c := replica.Change{Replica: r.ID, Records: []replica.Record{next}, Queue: tell}
	inAttic, err := exists(ctx, r, p.Attic)
	if err != nil {
		return err
	}
	if inAttic {
		c.Kept = []replica.Kept{{Path: name, Attic: p.Attic, Why: reasonOf(&rec), Size: rec.Seen.Size}}
	}
	kept, err := e.discard(ctx, r, name, &rec)
	if err != nil {
		return err
	}
	c.Kept = append(c.Kept, kept...)
	return e.save(ctx, c)
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

// permit gives what was there before the permissions and the time that are
// pending, and returns how it is shown then: as nothing, when people were quick;
// the next scan finds out.
func (e *Engine) permit(ctx context.Context, r *Replica, name string, rec *replica.Record) (replica.Seen, error) {
	next := &replica.Record{Content: rec.Pending.Content, Permissions: rec.Pending.Permissions}
	want := e.metaOf(r, next)
	permitted := rec.Kind == next.Kind && rec.Permissions.Same(&next.Permissions)
	if permitted {
		want.Descriptor, want.Attributes = acl.Descriptor{}, nil
	}
	if next.Kind == replica.File {
		entry, err := r.Tree.Stat(ctx, name)
		if err != nil {
			return replica.Seen{}, err
		}
		if entry.Modified.Equal(want.Modified) {
			want.Modified = time.Time{}
		}
	}
	if !want.Modified.IsZero() || want.Attributes != nil || !want.Descriptor.IsZero() {
		if err := e.endpoint(r).Apply(ctx, name, want); err != nil {
			return replica.Seen{}, err
		}
	}
	entry, there, err := e.look(ctx, r, name)
	switch {
	case err != nil:
		return replica.Seen{}, err
	case !there:
		return replica.Seen{}, errMoved
	case !isOurs(rec, entry):
		return replica.Seen{}, nil
	case !want.Modified.IsZero():
		// The time is ours whatever is in it: a change just before would not show.
		if d, _, err := digest(ctx, r.Tree, name); err != nil || d != next.Digest {
			return replica.Seen{}, err
		}
	}
	seen := e.seenOf(entry)
	if permitted { // what is shown otherwise than it was seen is people's
		seen.Descriptor, seen.Attributes = rec.Seen.Descriptor, rec.Seen.Attributes
	}
	return seen, nil
}

// metaOf is what is set on a file or folder beside its content.
func (e *Engine) metaOf(r *Replica, next *replica.Record) (meta tree.Meta) {
	if next.Kind == replica.File {
		meta.Modified = next.Modified
	}
	if e.LeavePermissions {
		return meta
	}
	attributes := tree.Attributes(next.Permissions.Attributes) &^ r.Tree.Capabilities().Fixed
	meta.Attributes = &attributes
	if r.Tree.Capabilities().Descriptors {
		meta.Descriptor = next.Permissions.Descriptor
	}
	return meta
}
