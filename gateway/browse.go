package gateway

import (
	"cmp"
	"context"
	"html/template"
	"io/fs"
	"net/http"
	"net/url"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"bridgespan/core/namespace"
	"bridgespan/tree"
)

// listing is a folder as a web browser shows it.
type listing struct {
	Path   string
	Crumbs []link
	Rows   []row
	Served string // the location that serves it
}

type link struct{ Name, Href string }

type row struct {
	link
	Folder   bool
	Size     string
	Modified time.Time
}

// page is light on purpose: no script, nothing from elsewhere. It follows the
// browser's day or night.
var page = template.Must(template.New("listing").Funcs(template.FuncMap{
	"when": func(t time.Time) string {
		if t.IsZero() {
			return ""
		}
		return t.UTC().Format("2006-01-02 15:04")
	},
}).Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>{{.Path}}</title>
<style>
:root{color-scheme:light dark;--sheet:#f8f5ee;--ink:#1d2a30;--soft:#59646a;--line:#dcd6c8;--span:#0b6161}
@media(prefers-color-scheme:dark){:root{--sheet:#19222a;--ink:#ece7da;--soft:#a3adb3;--line:#34414a;--span:#69c8b8}}
body{margin:2rem auto;max-width:60rem;padding:0 1rem;background:var(--sheet);color:var(--ink);font:1rem/1.5 system-ui,sans-serif}
h1{font-size:1.25rem;font-weight:600;overflow-wrap:anywhere;border-bottom:1px solid var(--ink);padding-bottom:.5rem}
a{color:var(--span);text-underline-offset:2px}
table{width:100%;border-collapse:collapse}
th,td{padding:.25rem .5rem;text-align:left;border-bottom:1px solid var(--line);font-variant-numeric:tabular-nums}
th{font-weight:500;color:var(--soft)}
td:first-child{overflow-wrap:anywhere;white-space:pre-wrap;width:100%}
.n{text-align:right;white-space:nowrap}
p{color:var(--soft)}
</style></head><body>
<h1>{{range .Crumbs}}<a href="{{.Href}}">{{.Name}}</a>/{{end}}</h1>
{{if .Rows}}<table><thead><tr><th scope="col">Name</th><th scope="col" class="n">Size</th><th scope="col" class="n">Changed (UTC)</th></tr></thead><tbody>
{{range .Rows}}<tr><td><a href="{{.Href}}">{{.Name}}{{if .Folder}}/{{end}}</a></td><td class="n">{{.Size}}</td><td class="n">{{when .Modified}}</td></tr>
{{end}}</tbody></table>{{else}}<p>There is nothing here.</p>{{end}}
<p>{{len .Rows}} {{if eq (len .Rows) 1}}entry{{else}}entries{{end}}{{with .Served}}, from {{.}}{{end}}</p>
</body></html>
`))

// browse answers a web browser that opens a folder.
func (q *request) browse(p place) error {
	asked := q.r.URL.Path
	if asked != q.name && asked != q.name+"/" { // no page has such an address
		return fs.ErrNotExist
	}
	if !strings.HasSuffix(asked, "/") { // so that the links are right
		http.Redirect(q.w, q.r, (&url.URL{Path: path.Base(asked) + "/"}).String(), http.StatusMovedPermanently)
		return nil
	}
	l := listing{Path: cmp.Or(q.name, "/"), Crumbs: crumbs(asked), Served: q.w.Header().Get(LocationHeader)}
	var err error
	if l.Rows, err = rows(q.r.Context(), p); err != nil {
		return err
	}
	header := q.w.Header()
	header.Set("Content-Type", "text/html; charset=utf-8")
	header.Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; frame-ancestors 'none'")
	header.Set("Cache-Control", "no-store")
	header.Set("Referrer-Policy", "no-referrer")
	if q.r.Method == http.MethodGet {
		_ = page.Execute(q.w, l) // whoever asked may be gone
	}
	return nil
}

// rows lists a folder: folders first, then by name.
func rows(ctx context.Context, p place) ([]row, error) {
	var rows []row
	if p.folder {
		for _, name := range p.children {
			rows = append(rows, row{link: link{name, href(name) + "/"}, Folder: true})
		}
		return rows, nil
	}
	for e, err := range p.tree.List(ctx, p.rest, tree.Plain) {
		if err != nil {
			return nil, err
		}
		if tree.Reserved(e.Name) {
			continue
		}
		one := row{link: link{e.Name, href(e.Name)}, Folder: e.Kind == tree.Folder, Modified: e.Modified}
		if one.Folder {
			one.Href += "/"
		} else {
			one.Size = humanize.IBytes(uint64(max(e.Size, 0)))
		}
		rows = append(rows, one)
	}
	slices.SortFunc(rows, func(a, b row) int {
		if a.Folder != b.Folder {
			return map[bool]int{true: -1, false: 1}[a.Folder]
		}
		return cmp.Or(cmp.Compare(namespace.Key(a.Name), namespace.Key(b.Name)), cmp.Compare(a.Name, b.Name))
	})
	return rows, nil
}

// href is a link to a name beside this page, whatever is in the name.
func href(name string) string { return "./" + url.PathEscape(name) }

// crumbs are the folders from the top down to a path.
func crumbs(full string) []link {
	list := []link{{"Bridge Span", "/"}}
	at := "/"
	for name := range strings.SplitSeq(strings.Trim(full, "/"), "/") {
		if name != "" {
			at += url.PathEscape(name) + "/"
			list = append(list, link{name, at})
		}
	}
	return list
}
