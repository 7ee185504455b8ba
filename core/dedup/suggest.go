package dedup

import (
	"cmp"
	"slices"
)

// Suggestion is what might be left out.
type Suggestion struct {
	What    string   `json:"what"`
	Why     string   `json:"why"`
	Rules   []string `json:"leaveOut" doc:"Patterns that leave it out"`
	Bytes   int64    `json:"bytes" doc:"Reading that this spares"`
	Saving  int64    `json:"saving" doc:"Saving that this gives up"`
	Reading float64  `json:"readingPercent" doc:"Which part of the reading it spares"`
	Costs   float64  `json:"costsPercent" doc:"Which part of the saving it costs"`
}

// kinds are files that are often better left out.
var kinds = []struct {
	what, why string
	endings   []string
}{
	{"databases", "a server writes into them all day: what was deduplicated is soon another", []string{".mdb", ".accdb", ".mdf", ".ldf", ".ndf", ".sqlite", ".db", ".dbf", ".ibd", ".fdb"}},
	{"mail stores", "each mail that comes changes them", []string{".pst", ".ost", ".edb", ".mbox", ".dbx"}},
	{"compressed media", "they are compressed already, and hardly two are alike", []string{".jpg", ".jpeg", ".png", ".webp", ".heic", ".mp3", ".mp4", ".m4a", ".m4v", ".mov", ".mkv", ".avi", ".ogg", ".flac"}},
	{"archives", "they are compressed already: what is in two of them looks different", []string{".zip", ".gz", ".xz", ".bz2", ".zst", ".7z", ".rar"}},
}

// Bounds of what is suggested: what spares little is not worth a rule, and what
// costs much is none.
const (
	leastReading = 2.0  // percent
	mostCosts    = 10.0 // percent
)

// Suggest looks for what spares much reading and costs little saving.
func Suggest(types []Part) []Suggestion {
	var bytes, saving int64
	for _, t := range types {
		bytes, saving = bytes+t.Bytes, saving+t.Saving
	}
	list := []Suggestion{}
	for _, k := range kinds {
		s := Suggestion{What: k.what, Why: k.why}
		for _, t := range types {
			if slices.Contains(k.endings, t.Name) {
				s.Bytes, s.Saving = s.Bytes+t.Bytes, s.Saving+t.Saving
				s.Rules = append(s.Rules, "*"+t.Name)
			}
		}
		if s.Bytes == 0 || saving <= 0 {
			continue
		}
		s.Reading, s.Costs = 100*float64(s.Bytes)/float64(bytes), max(100*float64(s.Saving)/float64(saving), 0)
		if s.Reading >= leastReading && s.Costs <= mostCosts {
			list = append(list, s)
		}
	}
	slices.SortFunc(list, func(a, b Suggestion) int { return cmp.Compare(b.Bytes, a.Bytes) })
	return list
}
