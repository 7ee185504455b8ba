// Package verify tells whether two trees hold the same: names, sizes, times
// and permissions. It reads no content itself; who did says so with [Counts.Differs].
package verify

import (
	"fmt"
	"time"

	"bridgespan/core/account"
	"bridgespan/core/acl"
)

// Item is a file or folder as far as it is compared.
type Item struct {
	Path       string // from the top, "." for the top itself
	Folder     bool
	Size       int64 // bytes; files only
	Modified   time.Time
	Attributes uint32 // those that are compared
	Descriptor acl.Descriptor
	// Unread is why it could not be read, or listed when it is a folder; "" when it was.
	Unread string
}

// Kind is a way in which two trees differ at a path.
type Kind string

const (
	Missing     Kind = "missing"     // only the first has it
	Extra       Kind = "extra"       // only the second has it
	OtherKind   Kind = "kind"        // a file at one, a folder at the other
	Size        Kind = "size"        // files of different lengths
	Time        Kind = "time"        // files that were last changed at different times
	Permissions Kind = "permissions" // somebody may do more or less
	Owner       Kind = "owner"       // it belongs to somebody else
	Attributes  Kind = "attributes"  // such as read-only
	Content     Kind = "content"     // other bytes
	InUse       Kind = "in-use"      // somebody holds the file, so that it could not be read
	Unreadable  Kind = "unreadable"  // it could not be read for another reason
)

// Difference is one way in which two trees differ at a path.
type Difference struct {
	Path   string `json:"path"`
	Kind   Kind   `json:"kind" enum:"missing,extra,kind,size,time,permissions,owner,attributes,content,in-use,unreadable"`
	First  string `json:"first,omitempty" doc:"As it is at the first"`
	Second string `json:"second,omitempty" doc:"As it is at the second"`
	// Shifts are who gains and loses, for permissions.
	Shifts []acl.Shift `json:"-"`
	// Explained is true when nothing is wrong with it.
	Explained bool `json:"explained,omitempty" doc:"Nothing is wrong with it"`
	// Overdue is true when it waits in a backlog for much longer than was forecast.
	Overdue bool   `json:"overdue,omitempty" doc:"It waits in a backlog, for more than three times as long as was forecast"`
	Why     string `json:"why,omitempty" doc:"Why nothing is wrong with it, or for how long it is overdue"`
}

// timeTolerance is how far apart the times of equal files may be: some file
// systems keep them to two seconds.
const timeTolerance = 2 * time.Second

// Compare says how two trees differ at one path; nil where an item is missing.
// local reports whether an account means something at one of the servers alone:
// its entries cannot be the same at the other, and are explained.
func Compare(first, second *Item, local func(account.SID) bool) []Difference {
	switch {
	case second == nil:
		return []Difference{{Path: first.Path, Kind: Missing}}
	case first == nil:
		return []Difference{{Path: second.Path, Kind: Extra}}
	case first.Folder != second.Folder:
		return []Difference{{Path: first.Path, Kind: OtherKind, First: kindOf(first), Second: kindOf(second)}}
	case first.Unread != "" || second.Unread != "":
		return []Difference{{Path: first.Path, Kind: Unreadable, First: first.Unread, Second: second.Unread}}
	}
	var found []Difference
	if !first.Folder {
		if first.Size != second.Size {
			found = append(found, Difference{Path: first.Path, Kind: Size, First: fmt.Sprintf("%d bytes", first.Size), Second: fmt.Sprintf("%d bytes", second.Size)})
		}
		if apart := first.Modified.Sub(second.Modified); apart.Abs() > timeTolerance {
			found = append(found, Difference{Path: first.Path, Kind: Time, First: stamp(first.Modified), Second: stamp(second.Modified)})
		}
	}
	if first.Attributes != second.Attributes {
		found = append(found, Difference{Path: first.Path, Kind: Attributes, First: fmt.Sprintf("%#x", first.Attributes), Second: fmt.Sprintf("%#x", second.Attributes)})
	}
	return append(found, permissions(first, second, local)...)
}

func kindOf(i *Item) string {
	if i.Folder {
		return "folder"
	}
	return "file"
}

func stamp(t time.Time) string { return t.UTC().Format("2006-01-02 15:04:05 UTC") }

func permissions(first, second *Item, local func(account.SID) bool) (found []Difference) {
	// What a place cannot keep cannot differ there.
	if first.Descriptor == second.Descriptor || first.Descriptor.IsZero() || second.Descriptor.IsZero() {
		return nil
	}
	a, b := first.Descriptor.Parts(), second.Descriptor.Parts()
	if a.Owner != b.Owner {
		found = append(found, Difference{Path: first.Path, Kind: Owner, First: a.Owner.String(), Second: b.Owner.String(), Explained: local(a.Owner) || local(b.Owner), Why: why(local(a.Owner) || local(b.Owner))})
	}
	if shifts := acl.Compare(a, b); len(shifts) > 0 {
		explained := true
		for _, s := range shifts {
			explained = explained && local(s.Account)
		}
		found = append(found, Difference{Path: first.Path, Kind: Permissions, First: first.Descriptor.String(), Second: second.Descriptor.String(), Shifts: shifts, Explained: explained, Why: why(explained)})
	}
	return found
}

// Nobody is the local of comparisons in which every account counts.
func Nobody(account.SID) bool { return false }

func why(explained bool) string {
	if explained {
		return "it is about accounts that only one of the servers has"
	}
	return ""
}

// Counts counts what a verification found, without what is explained.
type Counts struct {
	Compared    int64 `json:"compared" doc:"Files and folders of either"`
	Bytes       int64 `json:"bytes" doc:"Sizes of the files at the first"`
	Missing     int64 `json:"missing" doc:"Only at the first"`
	Extra       int64 `json:"extra" doc:"Only at the second"`
	Kinds       int64 `json:"kinds" doc:"A file at one, a folder at the other"`
	Sizes       int64 `json:"sizes" doc:"Of other length"`
	Times       int64 `json:"times" doc:"Last changed at another time"`
	Permissions int64 `json:"permissions" doc:"Where somebody may do more or less"`
	Owners      int64 `json:"owners" doc:"That belong to somebody else"`
	Attributes  int64 `json:"attributes" doc:"With other attributes, such as read-only"`
	Contents    int64 `json:"contents" doc:"With other content, where content was read"`
	InUse       int64 `json:"inUse" doc:"That could not be read, since somebody holds them"`
	Unreadable  int64 `json:"unreadable" doc:"That could not be read for another reason, with all that is in them"`
	Overdue     int64 `json:"overdue" doc:"Of all these, those that wait in a backlog, for more than three times as long as was forecast"`
	Explained   int64 `json:"explained" doc:"Differences that must be, and count for nothing"`
}

// Add counts what was found at one path.
func (t *Counts) Add(first *Item, found []Difference) {
	t.Compared++
	if first != nil && !first.Folder {
		t.Bytes += first.Size
	}
	t.Differs(found...)
}

// Differs counts differences.
func (t *Counts) Differs(found ...Difference) {
	for _, d := range found {
		if d.Explained {
			t.Explained++
			continue
		}
		t.count(d.Kind, 1)
		if d.Overdue {
			t.Overdue++
		}
	}
}

// Explain counts a difference that was counted as one among those that are explained.
func (t *Counts) Explain(d Difference) {
	t.count(d.Kind, -1)
	if d.Overdue {
		t.Overdue--
	}
	t.Explained++
}

func (t *Counts) count(k Kind, n int64) {
	for kind, counter := range map[Kind]*int64{Missing: &t.Missing, Extra: &t.Extra, OtherKind: &t.Kinds, Size: &t.Sizes, Time: &t.Times, Permissions: &t.Permissions, Owner: &t.Owners,
		Attributes: &t.Attributes, Content: &t.Contents, InUse: &t.InUse, Unreadable: &t.Unreadable} {
		if kind == k {
			*counter += n
		}
	}
}

// Unexplained is how many differences count.
func (t *Counts) Unexplained() int64 {
	return t.Missing + t.Extra + t.Kinds + t.Sizes + t.Times + t.Permissions + t.Owners + t.Attributes + t.Contents + t.Unreadable
}
