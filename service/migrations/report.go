package migrations

import (
	"context"
	"encoding/csv"
	"fmt"
	"html/template"
	"io"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"

	"bridgespan/core/account"
	"bridgespan/core/text"
	"bridgespan/model"
	"bridgespan/service/sheet"
)

// surveyReport is all that surveys found of the shares of a migration.
type surveyReport struct {
	model.Migration
	Surveys  []model.Survey
	Accounts []model.MigrationAccount
	Made     time.Time
}

// Report writes what the surveys found as a page that needs nothing else.
func (s *Service) Report(ctx context.Context, name string, w io.Writer) error {
	r := surveyReport{Made: time.Now()}
	var err error
	if r.Migration, err = s.Get(ctx, name); err != nil {
		return err
	}
	err = s.each(ctx, &r.Migration, func(_ *model.MigrationShare, v model.Survey) error {
		r.Surveys = append(r.Surveys, v)
		return nil
	})
	if err == nil {
		r.Accounts, err = s.accounts(ctx, &r.Migration)
	}
	if err != nil {
		return err
	}
	return reportPage.Execute(w, r)
}

// ShareTable writes what the surveys found as CSV (RFC 4180), a line for each share. Sizes are bytes.
func (s *Service) ShareTable(ctx context.Context, name string, w io.Writer) error {
	m, err := s.Get(ctx, name)
	if err != nil {
		return err
	}
	lines := [][]string{{"server", "share", "left", "survey", "surveyed", "files", "folders", "bytes", "changed bytes per day", "kept out", "open", "refused names", "findings"}}
	for _, h := range m.Shares {
		line := []string{h.Server, h.Share, h.Left, h.Survey.State, "", "", "", "", "", "", "", "", ""}
		if c := h.Counts; c != nil {
			line[4] = c.At.UTC().Format(time.RFC3339)
			for i, n := range []int64{c.Files, c.Folders, c.Bytes, c.ChangedPerDay, c.KeptOut, c.Open, c.Names, c.Findings} {
				line[5+i] = fmt.Sprint(n)
			}
		}
		lines = append(lines, text.Cells(line))
	}
	return csv.NewWriter(w).WriteAll(lines)
}

// AccountTable writes the accounts in use as CSV (RFC 4180), a line for each account of a server.
func (s *Service) AccountTable(ctx context.Context, name string, w io.Writer) error {
	list, err := s.Accounts(ctx, name)
	if err != nil {
		return err
	}
	lines := [][]string{{"server", "account", "sid", "kind", "reach", "files", "folders", "on share", "shares", "members"}}
	for _, a := range list {
		lines = append(lines, text.Cells([]string{a.Server, a.Name, a.SID, string(a.Kind), string(a.Reach), fmt.Sprint(a.Files), fmt.Sprint(a.Folders), fmt.Sprint(a.OnShare), strings.Join(a.Shares, ";"), strings.Join(a.Members, ";")}))
	}
	return csv.NewWriter(w).WriteAll(lines)
}

// reaches say to whom an account is known.
var reaches = map[account.Reach]string{account.ReachEverywhere: "other servers", account.ReachLocal: "this server alone", account.ReachNone: "nobody"}

var reportPage = template.Must(template.New("report").Funcs(template.FuncMap{
	"style": func() template.CSS { return sheet.Style }, "size": sheet.Size, "number": humanize.Comma, "reach": func(r account.Reach) string { return reaches[r] },
	"count": func(n int64, one, many string) string {
		return humanize.Comma(n) + " " + english.PluralWord(int(n), one, many)
	},
	"join": strings.Join, "when": func(t time.Time) string { return t.Local().Format("2 January 2006, 15:04") },
	"left": func(why string) string {
		return map[string]string{model.LeftByChoice: "stays", model.LeftByKind: "stays: administrative"}[why]
	},
}).Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width">
<title>Survey of {{.Name}}</title>
<style>{{style}} .line{white-space:nowrap}</style></head><body>
<h1>Survey of {{.Name}}</h1>
<p><small>{{join .Sources ", "}}{{if .Note}}. {{.Note}}{{end}}</small></p>
<p class="verdict{{if lt .Totals.Surveyed .Totals.Shares}} bad{{end}}">{{.Totals.Surveyed}} of {{.Totals.Shares}} shares are surveyed: {{count .Totals.Files "file" "files"}}, {{size .Totals.Bytes}}. {{size .Totals.ChangedPerDay}} change in a day.{{if .Totals.KeptOut}} The account of the server cannot read {{count .Totals.KeptOut "item" "items"}}.{{end}}</p>
<table><thead><tr><th>Share</th><th class="n">Files</th><th class="n">Folders</th><th class="n">Size</th><th class="n">Changed per day</th><th class="n">Unreadable</th><th class="n">Open</th><th class="n">Refused names</th><th>Surveyed</th></tr></thead><tbody>
{{range .Shares}}<tr{{if .Left}} class="explained"{{end}}><td class="path">{{.Server}}/{{.Share}}</td>{{with .Counts}}<td class="n">{{number .Files}}</td><td class="n">{{number .Folders}}</td><td class="n">{{size .Bytes}}</td><td class="n">{{size .ChangedPerDay}}</td><td class="n">{{number .KeptOut}}</td><td class="n">{{number .Open}}</td><td class="n">{{number .Names}}</td><td>{{when .At}}</td>{{else}}<td class="n"></td><td class="n"></td><td class="n"></td><td class="n"></td><td class="n"></td><td class="n"></td><td class="n"></td><td>{{if .Left}}{{left .Left}}{{else}}{{.Survey.State}}{{end}}</td>{{end}}</tr>
{{end}}</tbody></table>
{{range .Missing}}<p class="verdict bad">{{.}}</p>{{end}}
{{if .Accounts}}<h2>Accounts in use</h2>
<table><thead><tr><th>Account</th><th>Kind</th><th>Known to</th><th class="n">Files</th><th class="n">Folders</th><th>Shares</th><th>Members</th></tr></thead><tbody>
{{range .Accounts}}<tr><td>{{.Name}}{{if ne .Name .SID}}<br><small class="line">{{.SID}}</small>{{end}}</td><td class="line">{{if .BuiltIn}}built-in group{{else}}{{.Kind}}{{end}}</td><td class="line">{{reach .Reach}}</td><td class="n">{{number .Files}}</td><td class="n">{{number .Folders}}</td><td>{{join .Shares ", "}}</td><td>{{join .Members ", "}}</td></tr>
{{end}}</tbody></table>{{end}}
{{range .Surveys}}<h2>{{.Server}}/{{.Share}}</h2>
{{with .Settings}}<p>Folder <code>{{.Path}}</code>{{if .Note}}, note: {{.Note}}{{end}}. {{size .Free}} of {{size .Total}} are free on its volume.{{if .HideUnreadable}} Entries that a person cannot open are hidden.{{end}}{{if .Encrypt}} Connections must be encrypted.{{end}} Share permissions: {{range $i, $a := .Access}}{{if $i}}, {{end}}{{$a.Account}} = {{$a.Level}}{{else}}everybody = full{{end}}.</p>{{end}}
<table><thead><tr><th>Type</th><th class="n">Files</th><th class="n">Size</th></tr></thead><tbody>
{{range $i, $t := .Figures.Types}}{{if lt $i 10}}<tr><td>{{$t.Name}}</td><td class="n">{{number $t.Files}}</td><td class="n">{{size $t.Bytes}}</td></tr>
{{end}}{{end}}</tbody></table>
<table><thead><tr><th>Last change</th><th class="n">Files</th><th class="n">Size</th></tr></thead><tbody>
{{range .Figures.Ages}}{{if .Files}}<tr><td>{{.Name}}</td><td class="n">{{number .Files}}</td><td class="n">{{size .Bytes}}</td></tr>
{{end}}{{end}}</tbody></table>
{{if .Figures.Longest}}{{with index .Figures.Longest 0}}<p>Longest path: {{.Size}} characters, <code>{{.Path}}</code></p>{{end}}{{end}}
{{if or .Figures.Names .Findings .Open}}<table><thead><tr><th>Found</th><th class="n">Items</th><th>For example</th></tr></thead><tbody>
{{range .Figures.Names}}<tr><td>{{.Means}}</td><td class="n">{{number .Count}}</td><td class="path">{{index .Samples 0}}</td></tr>
{{end}}{{range .Findings}}<tr><td>{{if .Subject}}{{.Subject}}: {{end}}{{.Found}}; {{.Meaning}}</td><td class="n">{{number .Count}}</td><td class="path">{{with .Samples}}{{index . 0}}{{end}}</td></tr>
{{end}}{{range .Open}}<tr><td>{{.Person}} has a file open</td><td class="n">1</td><td class="path">{{.Path}}</td></tr>
{{end}}</tbody></table>{{end}}
{{end}}
<p><small>Made by Bridge Span, {{.Made.Format "2 January 2006, 15:04:05 MST"}}</small></p>
</body></html>
`))
