package estimates

import (
	"fmt"

	"github.com/dustin/go-humanize"

	"bridgespan/core/dedup"
	"bridgespan/core/finding"
	"bridgespan/model"
)

// judge tells what should be known of a number before it is used.
func judge(f *dedup.Found, asked model.Counting) (list []finding.Finding) {
	t := &f.Totals
	if t.InPolicy.Files == 0 {
		return []finding.Finding{{Severity: finding.Fail, Code: "estimate", Found: "the policy leaves nothing", Meaning: fmt.Sprintf("none of %s files would be deduplicated", humanize.Comma(t.Files)), Remedy: "ask for a lower age or size, or leave less out"}}
	}
	for _, l := range t.Left {
		if l.Why == dedup.NotYet && l.Bytes > t.Bytes/100 {
			list = append(list, finding.Finding{Severity: finding.Warn, Code: "estimate", Found: fmt.Sprintf("%s in %s files were never read", humanize.IBytes(uint64(l.Bytes)), humanize.Comma(l.Files)), Meaning: "they count as saving nothing, which may be too little", Remedy: "estimate again under this policy: what was read before is not read again"})
		}
	}
	if t.Sampled > 1 && asked.Exact {
		list = append(list, finding.Finding{Severity: finding.Warn, Code: "estimate", Found: "not every chunk was counted", Meaning: "of files with more than 8 million chunks a sample is kept, and of what was read with little memory before", Remedy: "estimate again with every chunk counted: what was thinned is read again, except for such files"})
	}
	if t.Sampled > 1 && t.Saving.High-t.Saving.Low > t.InPolicy.Bytes/20 {
		list = append(list, finding.Finding{Severity: finding.Warn, Code: "estimate", Found: "the interval is wide", Meaning: fmt.Sprintf("one of %d chunks was counted, which tells little of a volume of this size", t.Sampled), Remedy: "give the estimate more memory: --budget; or count every chunk: --exact"})
	}
	if t.Saving.Bytes < 0 {
		list = append(list, finding.Finding{Severity: finding.Warn, Code: "estimate", Found: "it would cost space", Meaning: "what a store needs to know which chunks files are made of is more than it saves", Remedy: "leave out small files: --min-size"})
	}
	return list
}
