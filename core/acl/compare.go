package acl

import (
	"iter"
	"slices"

	"bridgespan/core/account"
	"bridgespan/core/paths"
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
// come in [paths.Order], and so do the pairs. It judges each pair of
// descriptors once.
func CompareTrees(before, after iter.Seq2[Node, error]) iter.Seq2[Pair, error] {
	return func(yield func(Pair, error) bool) {
		judged := map[[2]Descriptor][]Shift{}
		for two, err := range paths.Pairs(before, after, func(n Node) string { return n.Path }) {
			p := Pair{Path: two.Path}
			if two.Second != nil {
				p.Folder, p.After = two.Second.Folder, two.Second.Descriptor
			}
			if two.First != nil {
				p.Folder, p.Before = two.First.Folder, two.First.Descriptor
			}
			if two.First != nil && two.Second != nil && !p.Same() {
				p.Shifts = judgeOnce(judged, p.Before, p.After)
			}
			if !yield(p, err) {
				return
			}
		}
	}
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
