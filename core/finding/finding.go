// Package finding is what Bridge Span says about the state of things: what was looked at, how it
// is, what that means for people, and what to do about it. Checks of servers, plans, advice before
// a change and alerts are all findings.
package finding

import (
	"cmp"
	"encoding/json"
	"slices"
)

// Severity is how a finding counts.
type Severity string

const (
	Pass Severity = "pass" // as it should be
	Warn Severity = "warn" // it can go on, and people may notice
	Fail Severity = "fail" // it cannot go on, or people notice now
)

// Rank orders severities, the worst first.
func (s Severity) Rank() int { return slices.Index([]Severity{Fail, Warn, Pass}, s) }

// Finding is one thing that was looked at.
type Finding struct {
	Severity Severity `json:"severity" enum:"pass,warn,fail" doc:"fail: it cannot go on so; warn: it can, and people may notice"`
	Code     string   `json:"code" doc:"What was looked at, in a word that stays the same"`
	Subject  string   `json:"subject,omitempty" doc:"What it is about: a server, replica, lane or field"`
	Found    string   `json:"found" doc:"What was found"`
	Meaning  string   `json:"meaning,omitempty" doc:"What that means for people"`
	Remedy   string   `json:"remedy,omitempty" doc:"What to do about it"`
	Count    int64    `json:"count,omitempty" doc:"On how many files and folders it was found"`
	Samples  []string `json:"samples,omitempty" doc:"Some of their paths"`
	Action   *Action  `json:"action,omitempty" doc:"What does that at once; absent where a person must decide"`
}

// New makes a finding. What passes needs no meaning and no remedy.
func New(severity Severity, code, subject, found, meaning, remedy string) Finding {
	if severity == Pass {
		meaning, remedy = "", ""
	}
	return Finding{Severity: severity, Code: code, Subject: subject, Found: found, Meaning: meaning, Remedy: remedy}
}

// With adds what does the remedy at once.
func (f Finding) With(a *Action) Finding {
	if f.Severity != Pass {
		f.Action = a
	}
	return f
}

// Worst is what findings come to together; Pass for none.
func Worst(list []Finding) Severity {
	worst := Pass
	for _, f := range list {
		if f.Severity.Rank() < worst.Rank() {
			worst = f.Severity
		}
	}
	return worst
}

// Sort puts the worst first, and leaves findings of one severity in their order.
func Sort(list []Finding) {
	slices.SortStableFunc(list, func(a, b Finding) int { return a.Severity.Rank() - b.Severity.Rank() })
}

// UnmarshalJSON also reads findings that were kept before they had one form.
func (f *Finding) UnmarshalJSON(b []byte) error {
	type plain Finding
	var read struct {
		plain
		Name    string   `json:"name"`
		Outcome Severity `json:"outcome"`
		Means   string   `json:"means"`
		Level   Severity `json:"level"`
		Says    string   `json:"says"`
		Kind    string   `json:"kind"`
		Account struct {
			Name string `json:"name"`
		} `json:"account"`
	}
	if err := json.Unmarshal(b, &read); err != nil {
		return err
	}
	*f = Finding(read.plain)
	f.Code, f.Severity, f.Meaning = cmp.Or(f.Code, read.Name), cmp.Or(f.Severity, read.Outcome, read.Level), cmp.Or(f.Meaning, read.Means)
	f.Found = cmp.Or(f.Found, read.Says)
	if read.Kind != "" { // about permissions: what was found was in its meaning
		f.Severity, f.Code, f.Subject, f.Found, f.Meaning = Warn, read.Kind, read.Account.Name, read.Means, ""
	}
	return nil
}
