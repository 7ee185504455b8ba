package dav

import (
	"bytes"
	"encoding/xml"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"unicode/utf8"
)

// Element appends a property as an element.
func Element(b []byte, p Property) []byte {
	name, declared := p.Local, ""
	switch {
	case p.Space != "":
		base := "p"
		if p.Space == "DAV:" {
			base = "D"
		}
		prefix, known := prefixFor(p.Attributes, base, p.Space)
		name = prefix + ":" + p.Local
		if !known {
			declared = " xmlns:" + prefix + `="` + Escape(p.Space) + `"`
		}
	case !strings.Contains(p.Attributes, ` xmlns="`):
		declared = ` xmlns=""`
	}
	b = append(b, '<')
	b = append(b, name...)
	b = append(b, declared...)
	b = append(b, p.Attributes...)
	if p.Inner == "" {
		return append(b, "/>"...)
	}
	b = append(b, '>')
	b = append(b, p.Inner...)
	b = append(b, "</"...)
	b = append(b, name...)
	return append(b, '>')
}

// prefixFor finds a prefix for a namespace that attributes do not use for
// another one; known is true when they declare it so already.
func prefixFor(attributes, base, uri string) (prefix string, known bool) {
	for n := 0; ; n++ {
		prefix = base
		if n > 0 {
			prefix += strconv.Itoa(n)
		}
		switch start := " xmlns:" + prefix + `="`; {
		case strings.Contains(attributes, start+Escape(uri)+`"`):
			return prefix, true
		case !strings.Contains(attributes, start):
			return prefix, false
		}
	}
}

// Text appends a property of DAV: that holds plain text.
func Text(b []byte, local, text string) []byte {
	b = append(b, "<D:"...)
	b = append(b, local...)
	b = append(b, '>')
	b = append(b, Escape(text)...)
	b = append(b, "</D:"...)
	b = append(b, local...)
	return append(b, '>')
}

// Escape writes text so that it can stand in a document.
func Escape(s string) string {
	plain := utf8.ValidString(s)
	for i := 0; plain && i < len(s); i++ {
		c := s[i]
		plain = c >= ' ' && c != '<' && c != '>' && c != '&' && c != '"' && c != '\''
	}
	if plain {
		return s
	}
	var b bytes.Buffer
	_ = xml.EscapeText(&b, []byte(s)) // a bytes.Buffer takes everything
	return b.String()
}

// Href writes a path as the address of a resource. Folders end with a slash.
func Href(path string, folder bool) string {
	if folder && !strings.HasSuffix(path, "/") {
		path += "/"
	}
	return (&url.URL{Path: path}).EscapedPath()
}

// MultiStatus writes an answer about several resources (section 13) as it goes,
// so that a folder of any size needs little memory. Nothing is sent before
// the first resource, so that an error until then can still be told.
type MultiStatus struct {
	Writer http.ResponseWriter
	buffer []byte
	begun  bool
}

const flushAt = 32 << 10

// PropStat is properties that share a status: elements one after another.
type PropStat struct {
	Status   int
	Elements []byte
	// Condition names the rule that was broken (section 16), if any.
	Condition string
}

// Response tells properties of a resource. Parts without elements are left out.
func (m *MultiStatus) Response(href string, parts ...PropStat) error {
	m.open(href)
	some := false
	for _, p := range parts {
		if len(p.Elements) == 0 {
			continue
		}
		some = true
		m.buffer = append(append(append(m.buffer, "<D:propstat><D:prop>"...), p.Elements...), "</D:prop>"...)
		m.status(p.Status)
		m.condition(p.Condition)
		m.buffer = append(m.buffer, "</D:propstat>"...)
	}
	if !some {
		m.buffer = append(m.buffer, "<D:propstat><D:prop/>"...)
		m.status(http.StatusOK)
		m.buffer = append(m.buffer, "</D:propstat>"...)
	}
	return m.end()
}

// Refused tells that something could not be done with a resource.
func (m *MultiStatus) Refused(href string, status int, text string) error {
	m.open(href)
	m.status(status)
	if text != "" {
		m.buffer = Text(m.buffer, "responsedescription", text)
	}
	return m.end()
}

func (m *MultiStatus) open(href string) {
	if len(m.buffer) == 0 && !m.begun {
		m.buffer = append(m.buffer, xml.Header+`<D:multistatus xmlns:D="DAV:">`...)
	}
	m.buffer = append(m.buffer, "<D:response><D:href>"...)
	m.buffer = append(m.buffer, Escape(href)...)
	m.buffer = append(m.buffer, "</D:href>"...)
}

func (m *MultiStatus) status(status int) {
	m.buffer = append(m.buffer, "<D:status>HTTP/1.1 "...)
	m.buffer = strconv.AppendInt(m.buffer, int64(status), 10)
	m.buffer = append(append(append(m.buffer, ' '), http.StatusText(status)...), "</D:status>"...)
}

func (m *MultiStatus) condition(name string) {
	if name != "" {
		m.buffer = append(append(append(m.buffer, "<D:error><D:"...), name...), "/></D:error>"...)
	}
}

func (m *MultiStatus) end() error {
	m.buffer = append(m.buffer, "</D:response>\n"...)
	if len(m.buffer) < flushAt {
		return nil
	}
	return m.flush()
}

func (m *MultiStatus) flush() error {
	if !m.begun {
		m.begun = true
		m.Writer.Header().Set("Content-Type", "application/xml; charset=utf-8")
		m.Writer.WriteHeader(http.StatusMultiStatus)
	}
	_, err := m.Writer.Write(m.buffer)
	m.buffer = m.buffer[:0]
	return err
}

// Begun reports whether something was sent, so that no error can be told any more.
func (m *MultiStatus) Begun() bool { return m.begun }

// Empty reports whether it tells of no resource so far.
func (m *MultiStatus) Empty() bool { return !m.begun && len(m.buffer) == 0 }

// Close ends the answer.
func (m *MultiStatus) Close() error {
	m.buffer = append(m.buffer, "</D:multistatus>\n"...)
	return m.flush()
}

// WriteError writes an error with the rule that was broken, and at which
// resources (section 16).
func WriteError(w http.ResponseWriter, status int, condition, text string, hrefs ...string) {
	b := append([]byte(xml.Header), `<D:error xmlns:D="DAV:"><D:`+condition+">"...)
	for _, href := range hrefs {
		b = Text(b, "href", href)
	}
	b = append(b, "</D:"+condition+`><text xmlns="">`+Escape(text)+"</text></D:error>\n"...)
	w.Header().Set("Content-Type", "application/xml; charset=utf-8")
	w.WriteHeader(status)
	_, _ = w.Write(b) // whoever asked may be gone
}
