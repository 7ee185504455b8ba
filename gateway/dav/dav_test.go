package dav

import (
	"encoding/xml"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"
)

func TestParsePropfind(t *testing.T) {
	for text, want := range map[string]Propfind{
		"": {All: true},
		`<propfind xmlns="DAV:"><allprop/></propfind>`:                                                              {All: true},
		`<a:propfind xmlns:a="DAV:"><a:propname/></a:propfind>`:                                                     {Names: true},
		`<propfind xmlns="DAV:"><allprop/><include><x xmlns="urn:x"/></include></propfind>`:                         {All: true, Props: []xml.Name{{Space: "urn:x", Local: "x"}}},
		`<?xml version="1.0"?><!-- hello --><propfind xmlns="DAV:"><prop><getetag/><b xmlns=""/></prop></propfind>`: {Props: []xml.Name{{Space: "DAV:", Local: "getetag"}, {Local: "b"}}},
	} {
		got, err := ParsePropfind(strings.NewReader(text))
		if err != nil || got.All != want.All || got.Names != want.Names || !slices.Equal(got.Props, want.Props) {
			t.Errorf("%s: %+v, %v", text, got, err)
		}
	}
	for what, text := range map[string]string{
		"not well formed":      `<propfind xmlns="DAV:"><allprop></propfind>`,
		"no end":               `<propfind xmlns="DAV:"><allprop/>`,
		"another document":     `<propertyupdate xmlns="DAV:"/>`,
		"nothing asked":        `<propfind xmlns="DAV:"/>`,
		"two things asked":     `<propfind xmlns="DAV:"><allprop/><prop/></propfind>`,
		"a strange namespace":  `<propfind xmlns="urn:other"><allprop/></propfind>`,
		"a prefix of nobody":   `<propfind xmlns="DAV:"><prop><x:y/></prop></propfind>`,
		"a prefix for nothing": `<propfind xmlns="DAV:"><prop><x:y xmlns:x=""/></prop></propfind>`,
		"a document type":      `<!DOCTYPE p [<!ENTITY e "x">]><propfind xmlns="DAV:"><allprop/></propfind>`,
		"two documents":        `<propfind xmlns="DAV:"><allprop/></propfind><propfind xmlns="DAV:"><allprop/></propfind>`,
		"text around":          `hello <propfind xmlns="DAV:"><allprop/></propfind>`,
		"text alone":           "hello",
		"too deep":             strings.Repeat("<a>", 101) + strings.Repeat("</a>", 101),
		"too long":             `<propfind xmlns="DAV:"><allprop/>` + strings.Repeat(" ", MostBytes) + `</propfind>`,
		"an unknown entity":    `<propfind xmlns="DAV:"><prop><a>&nbsp;</a></prop></propfind>`,
	} {
		if got, err := ParsePropfind(strings.NewReader(text)); !errors.Is(err, ErrMalformed) {
			t.Errorf("%s: %+v, %v", what, got, err)
		}
	}
}

// What a client keeps comes back as what it was, wherever it is written.
func TestPropertiesStayWhatTheyAre(t *testing.T) {
	for _, prop := range []string{
		`<x:a xmlns:x="urn:x">text</x:a>`,
		`<x:a xmlns:x="urn:x"/>`,
		`<a xmlns="">in no namespace</a>`,
		`<a xmlns="urn:d"><b/><c xmlns=""><d/></c></a>`,
		`<x:a xmlns:x="urn:x"><x:b c="&quot;&lt;"/>&amp;&#65536;<![CDATA[<raw>]]></x:a>`,
		`<D:a xmlns:D="urn:not-dav"><D:b/></D:a>`,
		`<p:a xmlns:p="urn:p" xmlns:p1="urn:p1"><p1:b/><p:c/></p:a>`,
		`<q:a xmlns:q="urn:q" xmlns:p="urn:p"><p:b/></q:a>`,
		`<D:custom>of DAV: itself</D:custom>`,
		`<a xmlns="urn:l" xml:lang="en">said</a>`,
	} {
		patches, err := ParsePropertyUpdate(strings.NewReader(`<D:propertyupdate xmlns:D="DAV:" xmlns:outer="urn:outer"><D:set><D:prop>` + prop + `</D:prop></D:set></D:propertyupdate>`))
		if err != nil || len(patches) != 1 {
			t.Errorf("%s: %+v, %v", prop, patches, err)
			continue
		}
		written := string(Element(nil, patches[0].Property))
		before, after := canonical(t, `<D:prop xmlns:D="DAV:">`+prop+`</D:prop>`), canonical(t, `<D:prop xmlns:D="DAV:">`+written+`</D:prop>`)
		if before != after {
			t.Errorf("%s became %s:\n%s\n%s", prop, written, before, after)
		}
	}
}

// canonical writes a document with every name in full and no declarations.
func canonical(t *testing.T, text string) string {
	t.Helper()
	var b strings.Builder
	decoder := xml.NewDecoder(strings.NewReader(text))
	for {
		token, err := decoder.Token()
		if err != nil {
			if err.Error() != "EOF" {
				t.Errorf("%s: %v", text, err)
			}
			return b.String()
		}
		switch x := token.(type) {
		case xml.StartElement:
			b.WriteString("<{" + x.Name.Space + "}" + x.Name.Local)
			for _, a := range x.Attr {
				if a.Name.Space != "xmlns" && a.Name.Local != "xmlns" {
					b.WriteString(" {" + a.Name.Space + "}" + a.Name.Local + "=" + a.Value)
				}
			}
			b.WriteString(">")
		case xml.EndElement:
			b.WriteString("</>")
		case xml.CharData:
			b.Write(x)
		}
	}
}

func TestParsePropertyUpdate(t *testing.T) {
	patches, err := ParsePropertyUpdate(strings.NewReader(`<propertyupdate xmlns="DAV:"><remove><prop><a xmlns="urn:x"/></prop></remove><set><prop><a xmlns="urn:x">1</a><b xmlns="urn:x">2</b></prop></set></propertyupdate>`))
	if err != nil || len(patches) != 3 || !patches[0].Remove || patches[1].Remove || patches[1].Inner != "1" || patches[2].Local != "b" {
		t.Errorf("%+v, %v", patches, err)
	}
	for _, bad := range []string{"", `<propertyupdate xmlns="DAV:"/>`, `<propertyupdate xmlns="DAV:"><set/></propertyupdate>`, `<propfind xmlns="DAV:"><allprop/></propfind>`} {
		if got, err := ParsePropertyUpdate(strings.NewReader(bad)); !errors.Is(err, ErrMalformed) {
			t.Errorf("%s: %+v, %v", bad, got, err)
		}
	}
}

// update is a PROPPATCH that sets what is given.
func update(props string) string {
	return `<D:propertyupdate xmlns:D="DAV:"><D:set><D:prop>` + props + `</D:prop></D:set></D:propertyupdate>`
}

// What would make everybody's answers malformed, or takes longer than it should, is
// refused while it is read.
func TestHostileDocuments(t *testing.T) {
	many := func(n int, each func(i int) string) string {
		var b strings.Builder
		for i := range n {
			b.WriteString(each(i))
		}
		return b.String()
	}
	for what, text := range map[string]string{
		"an attribute twice":                update(`<a xmlns="urn:a" b="1" b="2"/>`),
		"twice by two prefixes":             update(`<a xmlns="urn:a" xmlns:c="urn:c" xmlns:d="urn:c" c:b="1" d:b="2"/>`),
		"twice within":                      update(`<a xmlns="urn:a"><b c="1" c="2"/></a>`),
		"a prefix twice":                    update(`<a xmlns="urn:a" xmlns:b="urn:b" xmlns:b="urn:c"/>`),
		"a processing instruction":          update(`<a xmlns="urn:a"><?php echo 1 ?></a>`),
		"a declaration within":              update(`<a xmlns="urn:a"><?xml version="1.0"?></a>`),
		"a declaration that is not first":   "\n" + `<?xml version="1.0"?>` + update(`<a xmlns="urn:a"/>`),
		"a prefix that was declared before": update(`<a xmlns="urn:a"><b:c xmlns:b="urn:b"/><b:d/></a>`),
		"too many elements":                 update(`<a xmlns="urn:a">` + many(mostElements, func(int) string { return "<b/>" }) + `</a>`),
		"too many attributes":               update(`<a xmlns="urn:a"` + many(mostAttributes+1, func(i int) string { return fmt.Sprintf(` b%d=""`, i) }) + `/>`),
		"too many prefixes":                 update(`<a xmlns="urn:a"` + many(mostDeclarations, func(i int) string { return fmt.Sprintf(` xmlns:b%d="urn:b"`, i) }) + `/>`),
		"too many properties":               update(many(mostProperties+1, func(i int) string { return fmt.Sprintf(`<b%d xmlns=""/>`, i) })),
	} {
		if got, err := ParsePropertyUpdate(strings.NewReader(text)); !errors.Is(err, ErrMalformed) {
			t.Errorf("%s: %d patches, %v", what, len(got), err)
		}
	}
	names := `<propfind xmlns="DAV:"><prop>` + many(mostProperties+1, func(i int) string { return fmt.Sprintf("<b%d/>", i) }) + `</prop></propfind>`
	if _, err := ParsePropfind(strings.NewReader(names)); !errors.Is(err, ErrMalformed) {
		t.Errorf("too many properties that are asked for: %v", err)
	}
	lock := `<lockinfo xmlns="DAV:"><lockscope><exclusive/></lockscope><locktype><write/></locktype><owner>` + strings.Repeat("x", mostOwner) + `</owner></lockinfo>`
	if _, err := ParseLockInfo(strings.NewReader(lock)); !errors.Is(err, ErrMalformed) {
		t.Errorf("a long owner: %v", err)
	}
}

// worst are documents that are just accepted, and take longest to read and write.
func worst() map[string]string {
	prefixes := func(n int) string {
		var b strings.Builder
		for i := range n {
			fmt.Fprintf(&b, ` xmlns:p%d="urn:p%d"`, i, i)
		}
		return b.String()
	}
	return map[string]string{
		"text":       update(`<a xmlns="urn:a">` + strings.Repeat("x", MostBytes-200) + `</a>`),
		"elements":   update(`<a xmlns="urn:a"` + prefixes(mostDeclarations-10) + `>` + strings.Repeat(`<p7:b/>`, mostElements-10) + `</a>`),
		"properties": update(strings.Repeat(`<a xmlns="urn:a" b="c"><b/></a>`, mostProperties-10)),
		"deep":       update(strings.Repeat(strings.Repeat("<b>", mostDepth-5)+strings.Repeat("</b>", mostDepth-5), 95)),
		"attributes": update(`<a xmlns="urn:a">` + strings.Repeat(`<b c="" d="" e="" f="" g="" h="" i="" j="" k=""/>`, mostAttributes/9-10) + `</a>`),
	}
}

// The largest documents that are accepted take less than 50 ms each.
func BenchmarkWorstDocuments(b *testing.B) {
	for name, text := range worst() {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				if _, err := ParsePropertyUpdate(strings.NewReader(text)); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}

// They are accepted, and what is written of them is of their order of size.
func TestWorstDocuments(t *testing.T) {
	for name, text := range worst() {
		patches, err := ParsePropertyUpdate(strings.NewReader(text))
		if err != nil {
			t.Errorf("%s: %v", name, err)
		}
		written := 0
		for _, p := range patches {
			written += len(Element(nil, p.Property))
		}
		if written > 2*MostBytes {
			t.Errorf("%s: of %d bytes %d are written", name, len(text), written)
		}
	}
}

func TestParseLockInfo(t *testing.T) {
	doc := func(inner string) string { return `<l:lockinfo xmlns:l="DAV:">` + inner + `</l:lockinfo>` }
	write := `<l:locktype><l:write/></l:locktype>`
	info, err := ParseLockInfo(strings.NewReader(doc(`<l:lockscope><l:shared/></l:lockscope>` + write + `<l:owner><l:href>mailto:ada</l:href></l:owner>`)))
	if err != nil || !info.Shared || info.Refresh || canonical(t, info.Owner) != `<{DAV:}owner><{DAV:}href>mailto:ada</></>` {
		t.Errorf("%+v, %v", info, err)
	}
	if info, err = ParseLockInfo(strings.NewReader("")); err != nil || !info.Refresh {
		t.Errorf("an empty one: %+v, %v", info, err)
	}
	for _, bad := range []string{"x", doc(""), doc(write), doc(`<l:lockscope><l:exclusive/></l:lockscope>`), doc(`<l:lockscope><l:exclusive/><l:shared/></l:lockscope>` + write), doc(`<l:lockscope/>` + write)} {
		if got, err := ParseLockInfo(strings.NewReader(bad)); !errors.Is(err, ErrMalformed) {
			t.Errorf("%s: %+v, %v", bad, got, err)
		}
	}
}

func TestMultiStatus(t *testing.T) {
	w := httptest.NewRecorder()
	m := &MultiStatus{Writer: w}
	if !m.Empty() {
		t.Error("a new one tells of something")
	}
	if err := m.Response(Href("/a b/ä&<", true), PropStat{Status: 200, Elements: Text(nil, "displayname", "a & b\x01")}, PropStat{Status: 404}); err != nil {
		t.Fatal(err)
	}
	if m.Begun() || w.Body.Len() > 0 {
		t.Error("it was sent before there was need")
	}
	if err := m.Refused("/x", 423, "locked"); err != nil {
		t.Fatal(err)
	}
	if err := m.Close(); err != nil || w.Code != http.StatusMultiStatus {
		t.Errorf("status %d, %v", w.Code, err)
	}
	want := `<{DAV:}multistatus><{DAV:}response><{DAV:}href>/a%20b/%C3%A4&%3C/</><{DAV:}propstat><{DAV:}prop><{DAV:}displayname>a & b�</></><{DAV:}status>HTTP/1.1 200 OK</></></>` + "\n" +
		`<{DAV:}response><{DAV:}href>/x</><{DAV:}status>HTTP/1.1 423 Locked</><{DAV:}responsedescription>locked</></>` + "\n" + `</>`
	if got := strings.TrimSpace(canonical(t, w.Body.String())); got != want {
		t.Errorf("%s\nwant\n%s", got, want)
	}
	// A long one goes out in parts.
	w = httptest.NewRecorder()
	m = &MultiStatus{Writer: w}
	for range 2000 {
		if err := m.Response("/name", PropStat{Status: 200, Elements: Text(nil, "displayname", "name")}); err != nil {
			t.Fatal(err)
		}
	}
	if !m.Begun() || len(m.buffer) > flushAt {
		t.Errorf("begun %v, %d bytes wait", m.Begun(), len(m.buffer))
	}
}

func TestWriteError(t *testing.T) {
	w := httptest.NewRecorder()
	WriteError(w, 423, "lock-token-submitted", "locked by <ada>", "/a")
	if got := strings.TrimSpace(canonical(t, w.Body.String())); got != `<{DAV:}error><{DAV:}lock-token-submitted><{DAV:}href>/a</></><{}text>locked by <ada></></>` || w.Code != 423 {
		t.Errorf("%d %s", w.Code, got)
	}
}

// Whatever a client sends is refused, or kept so that what is written of it is
// a well-formed document with the same meaning.
func FuzzProperties(f *testing.F) {
	f.Add(`<x:a xmlns:x="urn:x" xml:lang="en">t<b xmlns="urn:q"/></x:a>`)
	f.Add(`<a xmlns=""><![CDATA[]]]]><![CDATA[>]]></a>`)
	f.Fuzz(func(t *testing.T, prop string) {
		patches, err := ParsePropertyUpdate(strings.NewReader(`<D:propertyupdate xmlns:D="DAV:"><D:set><D:prop>` + prop + `</D:prop></D:set></D:propertyupdate>`))
		if err != nil || len(patches) != 1 {
			return
		}
		first := Element(nil, patches[0].Property)
		again, err := ParsePropertyUpdate(strings.NewReader(`<D:propertyupdate xmlns:D="DAV:"><D:set><D:prop>` + string(first) + `</D:prop></D:set></D:propertyupdate>`))
		if err != nil || len(again) != 1 || again[0].Name() != patches[0].Name() {
			t.Fatalf("%q became %q: %v", prop, first, err)
		}
		if second := Element(nil, again[0].Property); canonical(t, `<D:x xmlns:D="DAV:">`+string(first)+`</D:x>`) != canonical(t, `<D:x xmlns:D="DAV:">`+string(second)+`</D:x>`) {
			t.Errorf("%q, then %q", first, second)
		}
	})
}

// What an earlier version has kept, and would make an answer malformed, is found out.
func TestSound(t *testing.T) {
	for _, c := range []struct {
		p    Property
		want bool
	}{
		{Property{Space: "urn:x", Local: "a", Inner: "text &amp; <b xmlns=\"urn:x\">more</b>"}, true},
		{Property{Space: "urn:x", Local: "a", Attributes: ` xml:lang="de"`}, true},
		{Property{Local: "a"}, true},
		{Property{Space: "urn:x", Local: "a", Attributes: ` b="1" b="2"`}, false},
		{Property{Space: "urn:x", Local: "a", Inner: `<?xml version="1.0"?>`}, false},
		{Property{Space: "urn:x", Local: "a", Inner: "<b>"}, false},
		{Property{Space: "urn:x", Local: "a", Inner: "</a><a>"}, false},
		{Property{Space: "urn:x", Local: "a b"}, false},
	} {
		if got := c.p.Sound(); got != c.want {
			t.Errorf("%+v: %v", c.p, got)
		}
	}
}
