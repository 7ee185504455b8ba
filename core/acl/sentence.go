package acl

import (
	"fmt"
	"slices"
	"strings"

	"bridgespan/core/account"
)

// Namer names an account for people.
type Namer func(account.SID) string

// Thing is what a descriptor is on.
type Thing string

const (
	OnFile   Thing = "file"
	OnFolder Thing = "folder"
	OnShare  Thing = "share"
)

// Of is what a file or folder is.
func Of(folder bool) Thing {
	if folder {
		return OnFolder
	}
	return OnFile
}

// Sentence says a descriptor in one plain sentence: who may do what, and how
// much of it comes from above. from is the folder that hands it down, "" when
// that is not known.
func (p Parts) Sentence(on Thing, from string, name Namer) string {
	if p.Open() {
		return "There is no list: everybody may do everything."
	}
	var clauses []string
	for _, g := range p.grants() {
		clauses = append(clauses, g.clause(on, name))
	}
	if len(clauses) == 0 {
		clauses = []string{"nobody but the owner may do anything"}
	}
	inherited := len(p.Entries()) - len(p.Explicit())
	switch {
	case inherited > 0 && from != "":
		clauses = append(clauses, fmt.Sprintf("%s from %s", comes(inherited), from))
	case inherited > 0:
		clauses = append(clauses, comes(inherited)+" from above")
	case p.Protected():
		clauses = append(clauses, "nothing is inherited from above")
	}
	text := strings.Join(clauses, "; ")
	return strings.ToUpper(text[:1]) + text[1:] + "."
}

func comes(n int) string {
	if n == 1 {
		return "one entry comes"
	}
	words := []string{"", "", "two", "three", "four", "five", "six", "seven", "eight", "nine", "ten", "eleven", "twelve"}
	if n < len(words) {
		return words[n] + " entries come"
	}
	return fmt.Sprintf("%d entries come", n)
}

// grant is what several accounts are granted or denied alike.
type grant struct {
	kind     EntryType
	mask     Mask
	scope    Scope
	accounts []account.SID
}

// grants gathers entries that say the same about different accounts.
func (p Parts) grants() []grant {
	var grants []grant
	for _, e := range p.Entries() {
		if e.Type != Allow && e.Type != Deny {
			continue
		}
		scope := e.ScopeOf()
		i := slices.IndexFunc(grants, func(g grant) bool { return g.kind == e.Type && g.mask == e.Mask.Mapped() && g.scope == scope })
		if i < 0 {
			grants = append(grants, grant{e.Type, e.Mask.Mapped(), scope, []account.SID{e.Account}})
		} else if !slices.Contains(grants[i].accounts, e.Account) {
			grants[i].accounts = append(grants[i].accounts, e.Account)
		}
	}
	return grants
}

func (g grant) clause(on Thing, name Namer) string {
	var names []string
	for _, s := range g.accounts {
		names = append(names, name(s))
	}
	may := "may"
	if g.kind == Deny {
		may = "may not"
	}
	return fmt.Sprintf("%s %s %s %s", andList(names), may, g.mask.verb(on != OnFile), g.scope.words(on))
}

func (s Scope) words(on Thing) string {
	switch on {
	case OnFile:
		return "this file"
	case OnShare:
		return "what the share holds"
	}
	switch s {
	case Everything:
		return "this folder and everything below"
	case FoldersOnly:
		return "this folder and the folders below"
	case FilesOnly:
		return "the files below"
	case BelowOnly:
		return "everything below"
	case OneLevel:
		return "this folder and what lies directly in it"
	case ThisOnly:
		return "this folder alone"
	}
	return "some of what lies here"
}

func andList(names []string) string {
	switch n := len(names); n {
	case 0:
		return "nobody"
	case 1:
		return names[0]
	default:
		return strings.Join(names[:n-1], ", ") + " and " + names[n-1]
	}
}
