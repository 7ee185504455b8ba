// Package sheet is the look of reports: pages that need nothing else, to be kept, sent
// and printed.
package sheet

import (
	"html/template"

	"github.com/dustin/go-humanize"
)

// Style is how they look, by day and at night.
const Style template.CSS = `
body{font:15px/1.5 system-ui,sans-serif;max-width:72rem;margin:2rem auto;padding:0 1.5rem;color:#22302f;background:#fbfaf6}
h1{font-weight:600;font-size:1.6rem;margin:0}
h2{font-weight:600;font-size:1.2rem;margin:1.6rem 0 .4rem}
p.verdict{font-size:1.1rem;border-left:3px solid #1f6f6b;padding-left:.8rem}
p.verdict.bad{border-color:#b3541e}
table{border-collapse:collapse;width:100%;font-variant-numeric:tabular-nums}
th{text-align:left;font-weight:600;border-bottom:1px solid #22302f}
td{border-bottom:1px solid #d8d5c9;vertical-align:top;padding:.25rem .6rem .25rem 0;overflow-wrap:anywhere}
th.n,td.n{text-align:right;white-space:nowrap;padding:.25rem .6rem}
td.path{font-family:ui-monospace,monospace;font-size:.85rem}
small,.explained{color:#6c7572}
@media (prefers-color-scheme:dark){body{color:#d9e0dd;background:#1c2423}th{border-color:#d9e0dd}td{border-color:#3a4543}small,.explained{color:#94a19d}}
`

// Size writes bytes, also fewer than none.
func Size(n int64) string {
	if n < 0 {
		return "−" + humanize.IBytes(uint64(-n))
	}
	return humanize.IBytes(uint64(n))
}
