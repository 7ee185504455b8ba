package acl

import (
	"slices"

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

// Pair is what two trees have at one path.
type Pair struct {
	Path          string
	Folder        bool
	Before, After Descriptor // zero where the path is missing, or could not be read
	// Unread is why it could not be read at one of both; "" when it was.
	Unread string
	// Shifts are empty when a path is missing, or when the descriptors differ
	// in what grants nothing to anybody (order, audit, flags).
	Shifts []Shift
}

// Same reports whether both trees have the path, with equal permissions.
func (p Pair) Same() bool { return p.Before == p.After && p.Unread == "" }

// Judge compares the permissions that two trees have at their paths, each pair of descriptors
// once. The zero value is ready.
type Judge struct{ known map[[2]Descriptor][]Shift }

// mostJudged bounds what a judge remembers, in pairs of descriptors.
const mostJudged = 4096

// Shifts are who gains and loses between two descriptors; none where one is missing.
func (j *Judge) Shifts(before, after Descriptor) []Shift {
	if before == after || before.IsZero() || after.IsZero() {
		return nil
	}
	key := [2]Descriptor{before, after}
	shifts, ok := j.known[key]
	if !ok {
		shifts = Compare(before.Parts(), after.Parts())
		if j.known == nil {
			j.known = map[[2]Descriptor][]Shift{}
		}
		if len(j.known) < mostJudged {
			j.known[key] = shifts
		}
	}
	return shifts
}
