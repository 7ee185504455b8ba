package replica

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// ID is the number of a replica within its set. Numbers are never used again.
type ID int64

// Vector is a version vector: how many changes made at each replica a version
// has in it. It is sorted by replica and is never changed in place. The zero
// value knows of no change.
type Vector []Tick

// Tick is how many changes of one replica are in a version; at least one.
type Tick struct {
	Replica ID
	Count   int64
}

// Order says how one version stands to another.
type Order uint8

const (
	Equal      Order = iota
	Before           // the other one has all changes of this one, and more
	After            // this one has all changes of the other, and more
	Concurrent       // each has changes that the other lacks
)

func (o Order) String() string {
	return [...]string{"equal", "before", "after", "concurrent"}[o]
}

// pairs calls f with the counts of both versions for every replica in either.
func pairs(v, w Vector, f func(id ID, a, b int64)) {
	for len(v) > 0 || len(w) > 0 {
		switch {
		case len(w) == 0 || len(v) > 0 && v[0].Replica < w[0].Replica:
			f(v[0].Replica, v[0].Count, 0)
			v = v[1:]
		case len(v) == 0 || w[0].Replica < v[0].Replica:
			f(w[0].Replica, 0, w[0].Count)
			w = w[1:]
		default:
			f(v[0].Replica, v[0].Count, w[0].Count)
			v, w = v[1:], w[1:]
		}
	}
}

// Compare says how v stands to w.
func (v Vector) Compare(w Vector) Order {
	var more, less bool
	pairs(v, w, func(_ ID, a, b int64) {
		more = more || a > b
		less = less || a < b
	})
	switch {
	case more && less:
		return Concurrent
	case more:
		return After
	case less:
		return Before
	}
	return Equal
}

// Join has the changes of both.
func (v Vector) Join(w Vector) Vector {
	joined := make(Vector, 0, max(len(v), len(w)))
	pairs(v, w, func(id ID, a, b int64) { joined = append(joined, Tick{id, max(a, b)}) })
	return joined
}

// Advance is v with one more change made at a replica.
func (v Vector) Advance(at ID) Vector {
	i, found := slices.BinarySearchFunc(v, at, func(t Tick, id ID) int { return cmp.Compare(t.Replica, id) })
	next := slices.Clone(v)
	if found {
		next[i].Count++
		return next
	}
	return slices.Insert(next, i, Tick{at, 1})
}

// String is the form in which versions are kept: "1:5 3:2".
func (v Vector) String() string {
	var b strings.Builder
	for i, t := range v {
		if i > 0 {
			b.WriteByte(' ')
		}
		b.WriteString(strconv.FormatInt(int64(t.Replica), 10))
		b.WriteByte(':')
		b.WriteString(strconv.FormatInt(t.Count, 10))
	}
	return b.String()
}

// ParseVector reads what String wrote. It returns an error for anything else.
func ParseVector(text string) (Vector, error) {
	var v Vector
	for part := range strings.FieldsSeq(text) {
		id, count, ok := strings.Cut(part, ":")
		replica, err := strconv.ParseInt(id, 10, 64)
		n, err2 := strconv.ParseInt(count, 10, 64)
		if !ok || err != nil || err2 != nil || n < 1 || len(v) > 0 && v[len(v)-1].Replica >= ID(replica) {
			return nil, fmt.Errorf("%q is not a version", text)
		}
		v = append(v, Tick{ID(replica), n})
	}
	if v.String() != text {
		return nil, fmt.Errorf("%q is not a version", text)
	}
	return v, nil
}
