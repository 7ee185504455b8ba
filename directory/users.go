package directory

import (
	"context"
	"fmt"
	"iter"
	"strconv"

	"github.com/go-ldap/ldap/v3"

	"bridgespan/core/account"
)

// Mark is a place in the list of a domain's users. It means something only to
// the directory server that gave it.
type Mark struct {
	Host string `json:"host"`
	At   int64  `json:"at"` // the update sequence number up to which users were listed
}

// Users is a part of the list of a domain's users.
type Users struct {
	Members  []Member
	Upto     Mark
	Fraction float64 // how much of the list is done with this part, 0 to 1
}

// Sizes of the parts. A part is one stretch of update sequence numbers, which
// is widened or narrowed by how many users it held: a directory is thus never
// asked to hold a long answer ready, and is not asked too often either, as
// some look through all of their entries for each stretch.
const (
	firstStretch = 4096
	fewUsers     = 2000
	manyUsers    = 16000
)

// Host names the directory server itself, for marks.
func (d *Directory) Host() string { return d.host }

// Users lists the users of the domain, part after part in the order in which
// they were made ([MS-ADTS] 3.1.1.2.3, uSNCreated) and in no order within a
// part, after a mark that the same server gave, or from the beginning. Users
// that are made meanwhile are not in it.
func (d *Directory) Users(ctx context.Context, g *Graph, after Mark) iter.Seq2[Users, error] {
	return func(yield func(Users, error) bool) {
		last, err := d.highest()
		if err != nil {
			yield(Users{}, err)
			return
		}
		if after.Host != d.host {
			after = Mark{}
		}
		for low, width := after.At+1, int64(firstStretch); low <= last; {
			high := min(low+width-1, last)
			part := Users{Upto: Mark{d.host, high}, Fraction: float64(high) / float64(last)}
			filter := fmt.Sprintf("(&%s(uSNCreated>=%d)(uSNCreated<=%d))", people, low, high)
			for e, err := range d.search(ctx, filter, withGroups) {
				if err != nil {
					yield(Users{}, err)
					return
				}
				if m, ok := g.member(e); ok {
					part.Members = append(part.Members, m)
				}
			}
			if !yield(part, nil) {
				return
			}
			low, width = high+1, nextStretch(width, len(part.Members))
		}
	}
}

func nextStretch(width int64, held int) int64 {
	switch {
	case held == 0:
		return min(4*width, 1<<40)
	case held < fewUsers:
		return 2 * width
	case held > manyUsers:
		return max(width/2, 1)
	}
	return width
}

// highest is the last update sequence number that the server gave.
func (d *Directory) highest() (int64, error) {
	root, err := d.one("", ldap.ScopeBaseObject, "(objectClass=*)", "highestCommittedUSN")
	if err != nil {
		return 0, err
	}
	return strconv.ParseInt(root.GetAttributeValue("highestCommittedUSN"), 10, 64)
}

// Member finds one user, or a group, with what it belongs to directly.
func (d *Directory) Member(ctx context.Context, g *Graph, s account.SID) (Member, error) {
	for e, err := range d.search(ctx, "(objectSid="+escapeBytes(s.Binary())+")", withGroups) {
		if err != nil {
			return Member{}, err
		}
		if m, ok := g.member(e); ok {
			return m, nil
		}
	}
	return Member{}, ErrNotFound
}
