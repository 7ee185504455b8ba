// Package filter tells which files and folders a piece of work is about: by
// name, place, size and age.
//
// A pattern is a name with the wildcards of path.Match (* ? [a-z]), compared
// without regard to case. Without a slash it is about the name alone, wherever
// it is; with one it is about the path from the top. One that ends in a slash is
// about folders, and with them about everything in them.
package filter

import (
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"golang.org/x/text/cases"
	"golang.org/x/text/unicode/norm"

	"bridgespan/core/fault"
)

// Rules say what work is about. The zero value is about everything.
type Rules struct {
	// LeaveOut are patterns of files and folders that the work is not about.
	LeaveOut []string `json:"leaveOut,omitempty" doc:"Patterns of names or paths that are left out; those of folders end in /"`
	// Only are patterns of files: the work is about no other ones.
	Only []string `json:"only,omitempty" doc:"Patterns of files; all others are left out"`
	// Smallest and Largest bound the size of files, in bytes; 0 is no bound.
	Smallest int64 `json:"smallest,omitempty" minimum:"0" maximum:"1152921504606846976" doc:"Least size of a file, in bytes"`
	Largest  int64 `json:"largest,omitempty" minimum:"0" maximum:"1152921504606846976" doc:"Greatest size of a file, in bytes; absent for no bound"`
	// MinDays is how long ago a file must have been changed, in days.
	MinDays int `json:"minDays,omitempty" minimum:"0" maximum:"36500" doc:"For how many days a file must not have been changed"`
	// MaxDepth is how many folders deep the work goes; 0 is no bound, and 1 is
	// about what is at the top alone.
	MaxDepth int `json:"maxDepth,omitempty" minimum:"0" maximum:"10000" doc:"How many folders deep; absent for no bound"`
}

// Filter is rules that can be asked.
type Filter struct {
	rules    Rules
	leaveOut []pattern
	only     []pattern
}

type pattern struct {
	text   string // as it was written
	match  string // folded
	path   bool   // about the path, not the name alone
	folder bool
}

const mostPatterns = 1000

// New makes a filter of rules. It returns a fault that names the field.
func New(rules Rules) (*Filter, error) {
	f := &Filter{rules: rules}
	var err error
	if f.leaveOut, err = patterns("leaveOut", rules.LeaveOut); err != nil {
		return nil, err
	}
	if f.only, err = patterns("only", rules.Only); err != nil {
		return nil, err
	}
	for i, p := range f.only {
		if p.folder {
			return nil, fault.Field(fmt.Sprintf("only[%d]", i), "leave out the other folders instead", "%q is about folders, and only files can be chosen so", p.text)
		}
	}
	switch {
	case rules.Smallest < 0:
		return nil, fault.Field("smallest", "use bytes, 0 for no bound", "a file cannot have %d bytes", rules.Smallest)
	case rules.Largest < 0:
		return nil, fault.Field("largest", "use bytes, 0 for no bound", "a file cannot have %d bytes", rules.Largest)
	case rules.Largest > 0 && rules.Largest < rules.Smallest:
		return nil, fault.Field("largest", fmt.Sprintf("use at least %d", rules.Smallest), "no file has at least %d and at most %d bytes", rules.Smallest, rules.Largest)
	case rules.MinDays < 0, rules.MinDays > mostDays:
		return nil, fault.Field("minDays", fmt.Sprintf("use days up to %d, 0 for no bound", mostDays), "%d days are no age", rules.MinDays)
	case rules.MaxDepth < 0:
		return nil, fault.Field("maxDepth", "use 1 for the top alone, 0 for no bound", "%d is no depth", rules.MaxDepth)
	}
	return f, nil
}

// mostDays is the greatest least age: a hundred years.
const mostDays = 36_525

func patterns(field string, texts []string) (list []pattern, err error) {
	if len(texts) > mostPatterns {
		return nil, fault.Field(field, "join them with wildcards", "there are %d patterns, more than %d", len(texts), mostPatterns)
	}
	for i, text := range texts {
		p := pattern{text: text, match: fold(strings.TrimSuffix(text, "/")), folder: strings.HasSuffix(text, "/")}
		p.path = strings.Contains(p.match, "/")
		p.match = strings.TrimPrefix(p.match, "/")
		if _, err := path.Match(p.match, ""); err != nil || p.match == "" || path.Clean("/"+p.match) != "/"+p.match {
			return nil, fault.Field(fmt.Sprintf("%s[%d]", field, i), `write a name such as *.tmp, a path such as /scans/raw, or a folder such as cache/`, "%q is not a pattern", text)
		}
		list = append(list, p)
	}
	return list, nil
}

func fold(text string) string {
	return norm.NFC.String(cases.Fold().String(norm.NFC.String(text)))
}

func (p *pattern) matches(folded string) bool {
	if !p.path {
		folded = path.Base(folded)
	}
	ok, _ := path.Match(p.match, folded)
	return ok
}

// find returns the first pattern that a file or folder, or a folder above it, matches.
func find(list []pattern, folded string, folder bool) *pattern {
	for i := range list {
		if p := &list[i]; (folder || !p.folder) && p.matches(folded) {
			return p
		}
	}
	if above := path.Dir(folded); above != "." && above != folded {
		return find(list, above, true)
	}
	return nil
}

// Folder returns why the work is not about a folder and what is in it, or "".
// name is the path from the top.
func (f *Filter) Folder(name string) string {
	if name == "." {
		return ""
	}
	if f.rules.MaxDepth > 0 && strings.Count(name, "/")+1 >= f.rules.MaxDepth {
		return fmt.Sprintf("deeper than %d", f.rules.MaxDepth)
	}
	if p := find(f.leaveOut, fold(name), true); p != nil {
		return "left out by " + p.text
	}
	return ""
}

// File returns why the work is not about a file, or "". name is the path from
// the top.
func (f *Filter) File(name string, size int64, modified, now time.Time) string {
	r, folded := &f.rules, fold(name)
	if r.MaxDepth > 0 && strings.Count(name, "/")+1 > r.MaxDepth {
		return fmt.Sprintf("deeper than %d", r.MaxDepth)
	}
	if p := find(f.leaveOut, folded, false); p != nil {
		return "left out by " + p.text
	}
	switch {
	case len(f.only) > 0 && !slices.ContainsFunc(f.only, func(p pattern) bool { return p.matches(folded) }):
		return "not among " + strings.Join(r.Only, ", ")
	case size < r.Smallest:
		return fmt.Sprintf("smaller than %d bytes", r.Smallest)
	case r.Largest > 0 && size > r.Largest:
		return fmt.Sprintf("larger than %d bytes", r.Largest)
	case r.MinDays > 0 && now.Sub(modified) < time.Duration(r.MinDays)*24*time.Hour:
		return fmt.Sprintf("changed less than %d days ago", r.MinDays)
	}
	return ""
}
