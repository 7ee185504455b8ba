package replicas

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"bridgespan/core/calendar"
	"bridgespan/core/verify"
	"bridgespan/guard"
	"bridgespan/model"
	"bridgespan/mover/gate"
	"bridgespan/records"
	"bridgespan/tree"
)

// sideBySide is how many files are read at a time.
const sideBySide = 6

func readers(ctx context.Context) (*guard.Group, context.Context) {
	group, reading := guard.WithContext(ctx)
	group.SetLimit(sideBySide)
	return group, reading
}

// gateTo is the gate through which contents of a replica are read; nil unless that
// is asked for.
func (v *verifier) gateTo(seed, r model.Replica) *gate.Gate {
	if !v.asked.WithinCalendar {
		return nil
	}
	look := func(ctx context.Context) (calendar.Week, error) {
		set, err := v.db.ReplicaSet(ctx, v.set.Name)
		return weekBetween(&set, seed.ID, r.ID), err
	}
	return gate.New(weekBetween(&v.set, seed.ID, r.ID), look, func(ctx context.Context, until time.Time, closed bool) error {
		if !closed {
			return v.job.Unpark(ctx)
		}
		v.job.Park(closedWords(seed, r, until))
		return nil
	})
}

func closedWords(seed, r model.Replica, until time.Time) string {
	if until.IsZero() {
		return fmt.Sprintf("the lane between %s and %s is closed, and its calendar never opens it", seed.Name, r.Name)
	}
	return fmt.Sprintf("the lane between %s and %s is closed until %s", seed.Name, r.Name, until.Local().Format("Mon 2 Jan 15:04"))
}

// differInContent compares what is in a file at both ends.
func (v *verifier) differInContent(ctx context.Context, first, second *end, name string) ([]verify.Difference, error) {
	sums, unread, err := v.sumsOf(ctx, first, second, name)
	return compareSums(name, sums, unread, first.replica.Name, second.replica.Name), err
}

// sumsOf reads a file at both ends at the same time. unread says why it could not be read
// at one of them. An error is of a server that does not answer.
func (v *verifier) sumsOf(ctx context.Context, first, second *end, name string) (sums [2][32]byte, unread [2]error, err error) {
	if err := v.gate.Await(ctx); err != nil {
		return sums, unread, err
	}
	group, reading := guard.WithContext(ctx)
	for i, e := range []*end{first, second} {
		group.Go(func() (err error) {
			sums[i], err = sumOf(reading, e.Tree, name, v.gate)
			switch {
			case reading.Err() != nil, isMissing(err): // the second look says whether it is gone
			case errors.Is(err, tree.ErrUnreachable):
				return fmt.Errorf("%s at %s: %w", name, e.replica.Name, err)
			default:
				unread[i] = err
			}
			return nil
		})
	}
	return sums, unread, errors.Join(group.Wait(), ctx.Err())
}

// contents compares what is in a file at both ends.
func (v *verifier) contents(ctx context.Context, first, second *end, f chosenFile) error {
	sums, unread, err := v.sumsOf(ctx, first, second, f.Path)
	if err != nil {
		return err
	}
	d := compareSums(f.Path, sums, unread, first.replica.Name, second.replica.Name)
	v.onTheirWay(ctx, first, second, d)
	v.mu.Lock()
	defer v.mu.Unlock()
	r := v.replica()
	v.kept.Bytes += f.Size
	r.Read += f.Size
	r.Counts.Differs(d...)
	v.find(r, d)
	if v.asked.Level == levelFull && unread[0] == nil {
		v.sums = append(v.sums, records.Sum{Path: f.Path, Sum: sums[0]})
	}
	return nil
}

func compareSums(name string, sums [2][32]byte, unread [2]error, first, second string) []verify.Difference {
	d := verify.Difference{Path: name, Kind: verify.InUse}
	for i, at := range []string{first, second} {
		if unread[i] == nil {
			continue
		}
		text := "somebody holds it at " + at
		if !errors.Is(unread[i], tree.ErrInUse) {
			d.Kind, text = verify.Unreadable, at+": "+words(unread[i])
		}
		*[]*string{&d.First, &d.Second}[i] = text
	}
	switch {
	case d.First+d.Second != "":
		return []verify.Difference{d}
	case sums[0] != sums[1]:
		return []verify.Difference{{Path: name, Kind: verify.Content, First: fmt.Sprintf("SHA-256 %x…", sums[0][:6]), Second: fmt.Sprintf("SHA-256 %x…", sums[1][:6])}}
	}
	return nil
}

// sumOf is the SHA-256 of a file's content.
func sumOf(ctx context.Context, t tree.Tree, name string, g *gate.Gate) (sum [32]byte, err error) {
	content, err := t.Open(ctx, name)
	if err != nil {
		return sum, err
	}
	defer content.Close()
	return tree.Sum(ctx, content, tree.SHA256, func(r io.Reader) io.Reader { return tree.Paced(ctx, r, g.Pass) })
}
