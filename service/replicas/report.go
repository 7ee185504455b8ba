package replicas

import (
	"context"
	"html/template"
	"io"
	"time"

	"bridgespan/core/verify"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/replicas/sets"
	"bridgespan/service/sheet"
)

// mostReported is how many differences a report shows at most.
const mostReported = 20_000

// Report writes a verification as a page that needs nothing else.
func (s *Service) Report(ctx context.Context, id int64, w io.Writer) error {
	v, err := s.Verified(ctx, id)
	if err != nil {
		return err
	}
	found, err := s.DB.Findings(ctx, id, records.FindingsAsked{After: -1, Limit: mostReported})
	if err != nil {
		return err
	}
	return reportPage.Execute(w, report{v, found, time.Now(), len(found) == mostReported})
}

type report struct {
	model.ReplicaVerification
	Findings []records.Finding
	Made     time.Time
	More     bool
}

// Kinds are the counts of a replica in words, those that are not zero.
func kindsOf(c verify.Counts) (list []string) {
	for _, k := range []struct {
		n    int64
		what string
	}{{c.Missing, "missing"}, {c.Extra, "extra"}, {c.Kinds, "of another kind"}, {c.Sizes, "of another length"}, {c.Contents, "of other content"}, {c.Times, "of another time"},
		{c.Permissions, "with other permissions"}, {c.Owners, "of another owner"}, {c.Attributes, "with other attributes"}, {c.InUse, "in use"}, {c.Explained, "explained"}} {
		if k.n > 0 {
			list = append(list, sets.Count(k.n, k.what, k.what))
		}
	}
	if len(list) == 0 {
		list = append(list, "no differences")
	}
	return list
}

var reportPage = template.Must(template.New("report").Funcs(template.FuncMap{
	"style": func() template.CSS { return sheet.Style }, "kinds": kindsOf, "size": sets.Size, "count": func(n int64) string { return sets.Count(n, "file or folder", "files and folders") },
	"when": func(t *time.Time) string {
		if t == nil {
			return ""
		}
		return t.Local().Format("2 January 2006, 15:04:05")
	},
}).Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width">
<title>Verification of {{.Set}}</title>
<style>{{style}}</style></head><body>
<h1>Verification of {{.Set}}</h1>
<p><small>Run {{.Run.ID}}, by {{.Run.Who}}, level {{.Level}}; ended {{when .Run.Ended}}</small></p>
<p class="verdict{{range .Replicas}}{{if gt .Counts.Unexplained 0}} bad{{end}}{{end}}">{{or .Verdict "It has not come to its end."}}</p>
<table><thead><tr><th>Replica</th><th>Compared with {{.Against}}</th><th>Read</th><th>Found</th></tr></thead><tbody>
{{range .Replicas}}<tr><td>{{.Replica}}</td><td>{{count .Counts.Compared}}</td><td>{{size .Read}}</td><td>{{range $i, $k := kinds .Counts}}{{if $i}}, {{end}}{{$k}}{{end}}</td></tr>
{{end}}</tbody></table>
{{if .Findings}}<h2>Differences</h2>
<table><thead><tr><th>Replica</th><th>Path</th><th>Differs in</th><th>{{.Against}}</th><th>There</th></tr></thead><tbody>
{{range .Findings}}<tr{{if .Explained}} class="explained"{{end}}><td>{{.Replica}}</td><td class="path">{{.Path}}</td><td>{{.Kind}}{{if .Why}}<br><small>{{.Why}}</small>{{end}}</td><td>{{.First}}</td><td>{{.Second}}</td></tr>
{{end}}</tbody></table>{{if .More}}<p>There are more: see the findings of the run.</p>{{end}}{{end}}
<p><small>Made by Bridge Span, {{.Made.Format "2 January 2006, 15:04:05 MST"}}</small></p>
</body></html>
`))
