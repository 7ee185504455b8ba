package acl

import (
	"cmp"
	"iter"
	"slices"
	"strings"

	"bridgespan/core/account"
)

// Shift is what one account gains and loses between two states.
type Shift struct {
	Account       account.SID
	Before, After Mask
}

// Gained and Lost are the rights that only one of the states grants.
func (s Shift) Gained() Mask { return s.After &^ s.Before }
func (s Shift) Lost() Mask   { return s.Before &^ s.After }

// Compare says what changes for each account that either state names. Each is
// judged by itself, as what these permissions say about it alone.
func Compare(before, after Parts) []Shift {
	accounts := before.Accounts()
	for _, s := range after.Accounts() {
		if !slices.Contains(accounts, s) {
			accounts = append(accounts, s)
		}
	}
	var shifts []Shift
	for _, s := range accounts {
		if s == account.CreatorOwner || s == account.CreatorGroup || s == account.OwnerRights {
			continue // stand for somebody else
		}
		t := account.Bare(s)
		if shift := (Shift{s, before.Allows(t), after.Allows(t)}); shift.Before != shift.After {
			shifts = append(shifts, shift)
		}
	}
	return shifts
}

// Node is a file or folder of a tree with its permissions.
type Node struct {
	Path       string // from the top, "." for the top itself
	Folder     bool
	Descriptor Descriptor
}

// PathOrder orders paths as a walk meets them: a folder before what it holds,
// and that before its next sibling.
func PathOrder(a, b string) int {
	switch {
	case a == b:
		return 0
	case a == ".":
		return -1
	case b == ".":
		return 1
	}
	for {
		x, restA, moreA := strings.Cut(a, "/")
		y, restB, moreB := strings.Cut(b, "/")
		if c := cmp.Compare(x, y); c != 0 {
			return c
		}
		switch {
		case !moreA && !moreB:
			return 0
		case !moreA:
			return -1
		case !moreB:
			return 1
		}
		a, b = restA, restB
	}
}

// Pair is what two trees have at one path.
type Pair struct {
	Path          string
	Folder        bool
	Before, After Descriptor // zero where the path is missing
	// Shifts are empty when a path is missing, or when the descriptors differ
	// in what grants nothing to anybody (order, audit, flags).
	Shifts []Shift
}

// Same reports whether both trees have the path, with equal permissions.
func (p Pair) Same() bool { return p.Before == p.After }

// CompareTrees yields what two trees have at each path of either. Both must
// come in PathOrder, and so do the pairs: a comparison that ended after a pair
// can go on with what comes after its path. It holds one node of each tree at
// a time, and judges each pair of descriptors once.
func CompareTrees(before, after iter.Seq2[Node, error]) iter.Seq2[Pair, error] {
	return func(yield func(Pair, error) bool) {
		nextA, stopA := iter.Pull2(before)
		defer stopA()
		nextB, stopB := iter.Pull2(after)
		defer stopB()
		a, errA, okA := nextA()
		b, errB, okB := nextB()
		judged := map[[2]Descriptor][]Shift{}
		for okA || okB {
			if err := cmp.Or(errA, errB); err != nil {
				yield(Pair{}, err)
				return
			}
			order := 0
			switch {
			case !okB:
				order = -1
			case !okA:
				order = 1
			default:
				order = PathOrder(a.Path, b.Path)
			}
			if !yield(pairOf(order, a, b, judged), nil) {
				return
			}
			if order <= 0 {
				a, errA, okA = nextA()
			}
			if order >= 0 {
				b, errB, okB = nextB()
			}
		}
	}
}

// pairOf pairs the nodes that come next, of which one may be further on.
func pairOf(order int, a, b Node, judged map[[2]Descriptor][]Shift) Pair {
	switch {
	case order < 0:
		return Pair{Path: a.Path, Folder: a.Folder, Before: a.Descriptor}
	case order > 0:
		return Pair{Path: b.Path, Folder: b.Folder, After: b.Descriptor}
	}
	p := Pair{Path: a.Path, Folder: a.Folder, Before: a.Descriptor, After: b.Descriptor}
	if !p.Same() {
		p.Shifts = judgeOnce(judged, a.Descriptor, b.Descriptor)
	}
	return p
}

// mostJudged bounds what CompareTrees remembers, in pairs of descriptors.
const mostJudged = 4096

func judgeOnce(judged map[[2]Descriptor][]Shift, a, b Descriptor) []Shift {
	key := [2]Descriptor{a, b}
	shifts, ok := judged[key]
	if !ok {
		shifts = Compare(a.Parts(), b.Parts())
		if len(judged) < mostJudged {
			judged[key] = shifts
		}
	}
	return shifts
}
