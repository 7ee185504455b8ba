package gateway

import (
	"context"
	"encoding/json"
	"encoding/xml"
	"errors"
	"io/fs"
	"log/slog"
	"net/http"
	"slices"
	"strconv"
	"time"

	"bridgespan/core/lock"
	"bridgespan/gateway/dav"
	"bridgespan/records"
	"bridgespan/service/estate"
	"bridgespan/tree"
)

// resource is a file or folder whose properties are asked for.
type resource struct {
	name  string // full path
	entry tree.Entry
	locks []lock.Lock
	kept  []dav.Property
	space func() (tree.Space, error) // nil for folders of the namespace
}

// liveProperty is a property that comes from what a resource is.
type liveProperty struct {
	name    string
	inAll   bool // whether it is among those that are given when all are asked for
	element func(b []byte, r *resource) ([]byte, bool)
}

// live are the properties that come from what a resource is (RFC 4918, section
// 15; RFC 4331): each appends itself, or reports that the resource has none.
var live = []liveProperty{
	{"resourcetype", true, func(b []byte, r *resource) ([]byte, bool) {
		if r.entry.Kind == tree.Folder {
			return append(b, "<D:resourcetype><D:collection/></D:resourcetype>"...), true
		}
		return append(b, "<D:resourcetype/>"...), true
	}},
	{"displayname", true, func(b []byte, r *resource) ([]byte, bool) {
		return dav.Text(b, "displayname", r.entry.Name), true
	}},
	{"getlastmodified", true, func(b []byte, r *resource) ([]byte, bool) {
		b = append(b, "<D:getlastmodified>"...)
		b = r.entry.Modified.UTC().AppendFormat(b, http.TimeFormat)
		return append(b, "</D:getlastmodified>"...), true
	}},
	{"creationdate", true, func(b []byte, r *resource) ([]byte, bool) {
		if r.entry.Created.IsZero() {
			return b, false
		}
		b = append(b, "<D:creationdate>"...)
		b = r.entry.Created.UTC().AppendFormat(b, time.RFC3339)
		return append(b, "</D:creationdate>"...), true
	}},
	{"getcontentlength", true, ofFiles(func(b []byte, r *resource) []byte {
		b = append(b, "<D:getcontentlength>"...)
		b = strconv.AppendInt(b, r.entry.Size, 10)
		return append(b, "</D:getcontentlength>"...)
	})},
	{"getcontenttype", true, ofFiles(func(b []byte, r *resource) []byte {
		return dav.Text(b, "getcontenttype", contentType(r.entry.Name))
	})},
	{"getetag", true, ofFiles(func(b []byte, r *resource) []byte {
		return dav.Text(b, "getetag", etag(r.entry))
	})},
	{"supportedlock", true, func(b []byte, r *resource) ([]byte, bool) {
		return append(b, "<D:supportedlock><D:lockentry><D:lockscope><D:exclusive/></D:lockscope><D:locktype><D:write/></D:locktype></D:lockentry>"+
			"<D:lockentry><D:lockscope><D:shared/></D:lockscope><D:locktype><D:write/></D:locktype></D:lockentry></D:supportedlock>"...), true
	}},
	{"lockdiscovery", true, func(b []byte, r *resource) ([]byte, bool) {
		b = append(b, "<D:lockdiscovery>"...)
		if len(r.locks) > 0 {
			key := keyOfPath(r.name)
			for _, l := range r.locks {
				if l.Covers(key) {
					b = activeLock(b, l)
				}
			}
		}
		return append(b, "</D:lockdiscovery>"...), true
	}},
	{"quota-available-bytes", false, quota("quota-available-bytes", func(s tree.Space) int64 { return s.Free })},
	{"quota-used-bytes", false, quota("quota-used-bytes", func(s tree.Space) int64 { return s.Total - s.Free })},
}

func ofFiles(element func(b []byte, r *resource) []byte) func([]byte, *resource) ([]byte, bool) {
	return func(b []byte, r *resource) ([]byte, bool) {
		if r.entry.Kind == tree.Folder {
			return b, false
		}
		return element(b, r), true
	}
}

// quota is what the server lets the person have and use of the volume.
func quota(name string, of func(tree.Space) int64) func([]byte, *resource) ([]byte, bool) {
	return func(b []byte, r *resource) ([]byte, bool) {
		if r.space == nil || r.entry.Kind != tree.Folder {
			return b, false
		}
		s, err := r.space()
		if err != nil {
			return b, false
		}
		return dav.Text(b, name, strconv.FormatInt(of(s), 10)), true
	}
}

func isLive(n xml.Name) bool {
	return n.Space == "DAV:" && slices.ContainsFunc(live, func(l liveProperty) bool { return l.name == n.Local })
}

// answer gathers the properties of a resource that are asked for, into buffers
// that are used again for the next.
type answer struct {
	asked          dav.Propfind
	found, missing []byte
}

func (a *answer) of(r *resource) (found, missing dav.PropStat) {
	a.found, a.missing = a.found[:0], a.missing[:0]
	switch {
	case a.asked.Names:
		a.names(r)
	default:
		if a.asked.All {
			for _, l := range live {
				if l.inAll {
					a.found, _ = l.element(a.found, r)
				}
			}
			for _, p := range r.kept {
				a.found = dav.Element(a.found, p)
			}
		}
		for _, name := range a.asked.Props {
			a.add(r, name)
		}
	}
	return dav.PropStat{Status: http.StatusOK, Elements: a.found}, dav.PropStat{Status: http.StatusNotFound, Elements: a.missing}
}

// add adds one property that was asked for by name.
func (a *answer) add(r *resource, name xml.Name) {
	if name.Space == "DAV:" {
		for _, l := range live {
			if l.name != name.Local {
				continue
			}
			if a.asked.All && l.inAll { // it is there already
				return
			}
			there := false
			if a.found, there = l.element(a.found, r); !there {
				a.missing = dav.Element(a.missing, dav.Property{Space: name.Space, Local: name.Local})
			}
			return
		}
	}
	for _, p := range r.kept {
		if p.Name() == name {
			if !a.asked.All {
				a.found = dav.Element(a.found, p)
			}
			return
		}
	}
	a.missing = dav.Element(a.missing, dav.Property{Space: name.Space, Local: name.Local})
}

func (a *answer) names(r *resource) {
	var scratch []byte
	for _, l := range live {
		there := false
		if scratch, there = l.element(scratch[:0], r); there {
			a.found = dav.Element(a.found, dav.Property{Space: "DAV:", Local: l.name})
		}
	}
	for _, p := range r.kept {
		a.found = dav.Element(a.found, dav.Property{Space: p.Space, Local: p.Local})
	}
}

// wants reports whether properties of a kind can be among those asked for.
func (a *answer) wants(which func(xml.Name) bool) bool {
	return a.asked.All || a.asked.Names || slices.ContainsFunc(a.asked.Props, which)
}

// propfind tells the properties of a file or folder, and of what is in it.
func (q *request) propfind() error {
	depth := q.r.Header.Get("Depth")
	if depth != "0" && depth != "1" {
		if depth == "" || depth == "infinity" {
			return &refusal{http.StatusForbidden, "propfind-finite-depth", "folders are listed one by one: ask with Depth 0 or 1", nil}
		}
		return refuse(http.StatusBadRequest, "Depth is 0 or 1")
	}
	asked, err := dav.ParsePropfind(q.body)
	if err != nil {
		return refuse(http.StatusBadRequest, "%v", err)
	}
	p, entry, err := q.look(q.name)
	if err != nil {
		return err
	}
	a := &answer{asked: asked}
	top := &resource{name: q.name, entry: entry}
	if p.tree != nil {
		top.space = onceSpace(q.r.Context(), p)
	}
	if a.wants(func(n xml.Name) bool { return n.Space == "DAV:" && n.Local == "lockdiscovery" }) {
		if top.locks, err = q.gateway.book.around(q.r.Context(), keyOfPath(q.name)); err != nil {
			return err
		}
	}
	keeps := a.wants(func(n xml.Name) bool { return !isLive(n) })
	if keeps {
		top.kept = q.keptAt(keyOfPath(q.name))
	}
	m := &dav.MultiStatus{Writer: q.w}
	found, missing := a.of(top)
	if err := m.Response(dav.Href(q.name, entry.Kind == tree.Folder), found, missing); err != nil {
		return nil // whoever asked is gone
	}
	if depth == "1" && entry.Kind == tree.Folder {
		if err := q.list(m, a, p, top, keeps); err != nil {
			if m.Begun() {
				slog.Warn("a listing broke off", "path", q.name, "error", err)
				panic(http.ErrAbortHandler) // the part must not be taken for the whole
			}
			return err
		}
	}
	_ = m.Close() // whoever asked may be gone
	return nil
}

// onceSpace asks a server for its space once for all folders of an answer.
func onceSpace(ctx context.Context, p place) func() (tree.Space, error) {
	var s tree.Space
	var err error
	asked := false
	return func() (tree.Space, error) {
		if !asked {
			s, err = p.tree.Space(ctx)
			asked = true
		}
		return s, err
	}
}

// list tells the properties of everything in a folder, as it is listed.
func (q *request) list(m *dav.MultiStatus, a *answer, p place, top *resource, keeps bool) error {
	tell := func(e tree.Entry, kept map[string][]dav.Property) error {
		r := &resource{name: top.name + "/" + e.Name, entry: e, locks: top.locks, space: top.space}
		if len(kept) > 0 {
			r.kept = kept[keyOfPath(r.name)]
		}
		found, missing := a.of(r)
		return m.Response(dav.Href(r.name, e.Kind == tree.Folder), found, missing)
	}
	if p.folder {
		for _, name := range p.children {
			if err := tell(folderEntry(name), nil); err != nil {
				return nil // whoever asked is gone
			}
		}
		return nil
	}
	var kept map[string][]dav.Property
	if keeps {
		kept = q.keptIn(keyOfPath(q.name))
	}
	for e, err := range p.tree.List(q.r.Context(), p.rest, tree.Plain) {
		if err != nil {
			return err
		}
		if tree.Reserved(e.Name) {
			continue
		}
		if err := tell(e, kept); err != nil {
			return nil // whoever asked is gone
		}
	}
	return nil
}

// keptAt are the properties that clients keep at a key. While they cannot be
// read there are none: that must not keep anybody from their files.
func (q *request) keptAt(key string) []dav.Property {
	text, err := q.gateway.book.GatewayProperties(q.r.Context(), key)
	return q.readKept(text, err)
}

func (q *request) keptIn(key string) map[string][]dav.Property {
	texts, err := q.gateway.book.GatewayPropertiesIn(q.r.Context(), key)
	all := map[string][]dav.Property{}
	for k, text := range texts {
		all[k] = q.readKept(text, err)
	}
	return all
}

func (q *request) readKept(text []byte, err error) (list []dav.Property) {
	if err == nil && text != nil {
		err = json.Unmarshal(text, &list)
	}
	if err != nil && q.r.Context().Err() == nil {
		slog.Warn("properties that clients keep cannot be read", "path", q.name, "error", err)
	}
	return slices.DeleteFunc(list, func(p dav.Property) bool { return !p.Sound() })
}

// Bounds of what clients keep at one name.
const (
	mostKept      = 500
	mostKeptBytes = 512 << 10
)

var errTooMuch = errors.New("too much is kept here already")

// proppatch keeps and drops properties: all of what is asked, or nothing.
func (q *request) proppatch() error {
	patches, err := dav.ParsePropertyUpdate(q.body)
	if err != nil {
		return refuse(http.StatusBadRequest, "%v", err)
	}
	p, err := q.inTree(q.name, false)
	if err != nil {
		return err
	}
	entry, there, err := q.there(q.name, p)
	if err != nil || !there {
		return cmpErr(err, fs.ErrNotExist)
	}
	if err := q.unlocked(lock.Change{Key: keyOfPath(q.name)}); err != nil {
		return err
	}
	if err := estate.MayWrite(q.r.Context(), p.tree, p.rest); err != nil {
		return err
	}
	isProtected := func(p dav.Patch) bool { return isLive(p.Name()) }
	status := http.StatusOK
	if slices.ContainsFunc(patches, isProtected) {
		status = http.StatusFailedDependency
	} else if err := q.keep(patches); errors.Is(err, errTooMuch) {
		status = http.StatusInsufficientStorage
	} else if err != nil {
		return err
	} else if err := q.applyTimes(p, patches); err != nil {
		return err
	}
	var done, protected []byte
	for _, patch := range patches {
		bare := dav.Property{Space: patch.Space, Local: patch.Local}
		if isProtected(patch) {
			protected = dav.Element(protected, bare)
		} else {
			done = dav.Element(done, bare)
		}
	}
	m := &dav.MultiStatus{Writer: q.w}
	if m.Response(dav.Href(q.name, entry.Kind == tree.Folder), dav.PropStat{Status: status, Elements: done},
		dav.PropStat{Status: http.StatusForbidden, Elements: protected, Condition: "cannot-modify-protected-property"}) == nil {
		_ = m.Close() // whoever asked may be gone
	}
	return nil
}

// keep changes what is kept at the name.
func (q *request) keep(patches []dav.Patch) error {
	key := keyOfPath(q.name)
	if len(key) > records.MostGatewayKey {
		return errTooMuch
	}
	return q.gateway.book.ChangeGatewayProperties(q.r.Context(), key, func(text []byte) ([]byte, error) {
		var list []dav.Property
		if text != nil {
			if err := json.Unmarshal(text, &list); err != nil {
				return nil, err
			}
		}
		for _, p := range patches {
			list = slices.DeleteFunc(list, func(k dav.Property) bool { return k.Name() == p.Name() })
			if !p.Remove {
				list = append(list, p.Property)
			}
		}
		if len(list) == 0 {
			return nil, nil
		}
		text, err := json.Marshal(list)
		if err == nil && (len(list) > mostKept || len(text) > mostKeptBytes) {
			err = errTooMuch
		}
		return text, err
	})
}

// windowsTime is the property by which Windows tells when a file that it
// copied was changed: the file itself is to say that.
const windowsTime = "Win32LastModifiedTime"

func (q *request) applyTimes(p place, patches []dav.Patch) error {
	for _, patch := range patches {
		if patch.Remove || patch.Local != windowsTime {
			continue
		}
		at, err := http.ParseTime(patch.Inner)
		if err != nil {
			continue // it is kept as what it is
		}
		delete(q.known, q.name)
		if err := p.tree.Apply(q.r.Context(), p.rest, tree.Meta{Modified: at}); err != nil {
			return err
		}
	}
	return nil
}
