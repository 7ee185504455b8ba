package estimates

import (
	"context"
	"fmt"
	"html/template"
	"io"
	"math"
	"slices"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"

	"bridgespan/core/dedup"
	"bridgespan/core/fault"
	"bridgespan/model"
	"bridgespan/service/sheet"
)

// Report writes an estimate as a page that needs nothing else.
func (s *Service) Report(ctx context.Context, id int64, w io.Writer) error {
	e, err := s.Get(ctx, id)
	if err != nil {
		return err
	}
	if e.Found == nil {
		return fault.New(fault.Stale, "let it come to its end first", "estimate %d has found nothing yet", id)
	}
	f := e.Found
	r := report{Estimate: e, Made: time.Now()}
	r.Rate, r.Low, r.High = f.Totals.Rate()
	if points, err := s.db.Estimates(ctx, e.Volume.ID, trendLength); err == nil { // it may be forgotten by now
		slices.Reverse(points)
		r.Lasts = lasts(runwayOf(points))
	}
	r.Groups = []group{{"folder", f.Where.Folders.Parts(reportDepth)}, {"type", f.Where.Types}, {"age", f.Where.Ages}, {"size", f.Where.Sizes}, {"owner", f.Where.Owners}}
	return reportPage.Execute(w, r)
}

type report struct {
	model.Estimate
	Made            time.Time
	Rate, Low, High float64
	Lasts           string // when free space reaches zero; "" when that is not known, or never
	Groups          []group
}

// lasts says when free space reaches zero.
func lasts(r *dedup.Runway) string {
	if r == nil || r.Without == nil {
		return ""
	}
	text := fmt.Sprintf("in %s as it is", english.Plural(int(*r.Without), "week", ""))
	if r.With == nil {
		return text + ", and not within ten years with what would be saved"
	}
	return text + fmt.Sprintf(", and in %d with what would be saved", int(*r.With))
}

type group struct {
	By    string
	Parts []dedup.Part
}

// reportDepth is how deep folders are that a report shows, the server and the share
// with them.
const reportDepth = 4

var reportPage = template.Must(template.New("report").Funcs(template.FuncMap{
	"style": func() template.CSS { return sheet.Style }, "size": sheet.Size, "count": humanize.Comma,
	"files": func(n int64) string { return humanize.Comma(n) + " " + english.PluralWord(int(n), "file", "") },
	"abs":   math.Abs,
	"part":  func(p float64) string { return fmt.Sprintf("%.0f%%", 100*p) },
	"percent": func(p dedup.Part) string {
		return fmt.Sprintf("%.1f%%", 100*float64(p.Saving)/float64(max(p.Bytes, 1)))
	},
	"figure": func(f dedup.Figure) string {
		if f.IsExact() {
			return sheet.Size(f.Bytes)
		}
		return fmt.Sprintf("%s (%s to %s)", sheet.Size(f.Bytes), sheet.Size(f.Low), sheet.Size(f.High))
	},
}).Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width">
<title>What deduplication would save on {{.Volume.Name}}</title>
<style>{{style}}</style></head><body>
<h1>What deduplication would save on {{.Volume.Name}}</h1>
{{with .Found.Totals}}<p><small>Estimate {{$.Run.ID}}, by {{$.Run.Who}}; as of {{.Now.Local.Format "2 January 2006, 15:04"}}; profile {{.Profile}}</small></p>
<p class="verdict{{if lt .Saving.Bytes 0}} bad{{end}}">{{size .Saving.Bytes}} of {{size .InPolicy.Bytes}}: {{printf "%.1f%%" $.Rate}}{{if not .Saving.IsExact}}, between {{printf "%.1f%%" $.Low}} and {{printf "%.1f%%" $.High}} with 95% confidence{{end}}</p>
<table><tbody>
<tr><td>Holds</td><td class="n">{{size .Bytes}}</td><td>in {{files .Files}}, occupying {{size .Allocated}}</td></tr>
<tr><td>In policy</td><td class="n">{{size .InPolicy.Bytes}}</td><td>in {{files .InPolicy.Files}}</td></tr>
{{range .Left}}<tr><td>Not deduplicated</td><td class="n">{{size .Bytes}}</td><td>in {{files .Files}}: {{.Why}}</td></tr>
{{end}}<tr><td>Equal files alone save</td><td class="n">{{size $.Found.WholeFiles}}</td><td></td></tr>
<tr><td>Different chunks</td><td class="n">{{size .Unique.Bytes}}</td><td>{{if not .Unique.IsExact}}{{size .Unique.Low}} to {{size .Unique.High}}; {{end}}{{if gt .Sampled 1}}one in {{.Sampled}} was counted{{else}}every chunk was counted{{end}}</td></tr>
<tr><td>Compressed</td><td class="n">{{size .Packed.Bytes}}</td><td>{{if not .Packed.IsExact}}{{size .Packed.Low}} to {{size .Packed.High}}; {{end}}measured on {{count .Measured}} chunks</td></tr>
<tr><td>To know whose they are</td><td class="n">{{size .Metadata}}</td><td></td></tr>
{{if .Holes}}<tr><td>Holes of sparse files</td><td class="n">{{size .Holes}}</td><td>take no space now</td></tr>
{{end}}</tbody></table>{{end}}
{{with .Volume.Proof}}<p>The last proof, of {{.Folder}} on {{.At.Local.Format "2 January 2006"}}: {{size .Predicted}} foretold, {{size .Real}} taken, {{printf "%.2f%%" (abs .Off)}} off.</p>
{{end}}{{with .Lasts}}<p>Free space reaches zero {{.}}.</p>
{{end}}{{range .Warnings}}<p><strong>{{.Found}}</strong>: {{.Meaning}}. <small>{{.Remedy}}.</small></p>
{{end}}{{range .Groups}}<h2>By {{.By}}</h2>
<table><thead><tr><th>{{.By}}</th><th class="n">files</th><th class="n">bytes</th><th class="n">would take</th><th class="n">saves</th><th class="n">rate</th></tr></thead><tbody>
{{range .Parts}}{{if .Files}}<tr><td class="path">{{.Name}}</td><td class="n">{{count .Files}}</td><td class="n">{{size .Bytes}}</td><td class="n">{{size .Stored}}</td><td class="n">{{size .Saving}}</td><td class="n">{{percent .}}</td></tr>
{{end}}{{end}}</tbody></table>
{{end}}<h2>By least age</h2>
<table><thead><tr><th>unchanged for</th><th class="n">files</th><th class="n">bytes</th><th class="n">saves</th></tr></thead><tbody>
{{range .Found.Curve}}<tr><td>{{.Days}} days</td><td class="n">{{count .Files}}</td><td class="n">{{size .Bytes}}</td><td class="n">{{figure .Saving}}</td></tr>
{{end}}</tbody></table>
{{if .Found.Twins}}<h2>Equal files</h2>
<table><thead><tr><th class="n">files</th><th class="n">each</th><th class="n">spare</th><th>among them</th></tr></thead><tbody>
{{range .Found.Twins}}<tr><td class="n">{{count .Files}}</td><td class="n">{{size .Size}}</td><td class="n">{{size .Spares}}</td><td class="path">{{range $i, $p := .Paths}}{{if $i}}<br>{{end}}{{$p}}{{end}}</td></tr>
{{end}}</tbody></table>{{end}}
{{with .Found.Where.Near}}<h2>Nearly equal files</h2>
<table><thead><tr><th class="n">in common</th><th class="n">of the smaller</th><th>two files</th></tr></thead><tbody>
{{range .}}<tr><td class="n">{{size .Common}}</td><td class="n">{{part .Part}}</td><td class="path">{{.A}}<br>{{.B}}</td></tr>
{{end}}</tbody></table>{{end}}
{{with .Found.Where.Popular}}<h2>Most shared chunks</h2>
<table><thead><tr><th class="n">length</th><th class="n">times</th><th class="n">spares</th><th>among others in</th></tr></thead><tbody>
{{range .}}<tr><td class="n">{{size .Length}}</td><td class="n">{{count .Times}}</td><td class="n">{{size .Spares}}</td><td class="path">{{range $i, $p := .Paths}}{{if $i}}<br>{{end}}{{$p}}{{end}}</td></tr>
{{end}}</tbody></table>{{end}}
{{if .Found.Suggested}}<h2>What might be left out</h2>
{{range .Found.Suggested}}<p>{{.What}} ({{range $i, $p := .Rules}}{{if $i}} {{end}}{{$p}}{{end}}): costs {{printf "%.1f%%" .Costs}} of the saving and spares {{printf "%.0f%%" .Reading}} of the reading; {{.Why}}.</p>
{{end}}{{end}}<p><small>Profile {{.Found.Totals.Profile}}: {{.Why}}.</small></p>
<p><small>Made by Bridge Span, {{.Made.Format "2 January 2006, 15:04:05 MST"}}</small></p>
</body></html>
`))
