package dav

import (
	"encoding/xml"
	"strconv"
	"strings"
)

// writer writes what an element holds anew, with prefixes of its own: what a client sent
// is never passed on to others as it was.
type writer struct {
	inner strings.Builder
	// prefixes are those of the namespaces in use, which are to be declared around it.
	prefixes   map[string]string
	attributes strings.Builder
}

// written is the content of an element, and the attributes with which it stays what it
// is: the declarations that it needs, and its language. Both are of the order of what was
// read.
func (e *element) written(language string) (inner, attributes string) {
	w := &writer{prefixes: map[string]string{}}
	w.content(e)
	if language != "" {
		attribute(&w.attributes, "xml:lang", language)
	}
	return w.inner.String(), w.attributes.String()
}

func (w *writer) content(e *element) {
	for _, c := range e.content {
		switch c := c.(type) {
		case string:
			_ = xml.EscapeText(&w.inner, []byte(c)) // a strings.Builder takes everything
		case *element:
			w.element(c)
		}
	}
}

func (w *writer) element(e *element) {
	name := w.name(e.Name)
	w.inner.WriteString("<" + name)
	for _, a := range e.attributes {
		attribute(&w.inner, w.name(a.Name), a.Value)
	}
	if len(e.content) == 0 {
		w.inner.WriteString("/>")
		return
	}
	w.inner.WriteString(">")
	w.content(e)
	w.inner.WriteString("</" + name + ">")
}

// name is a name with the prefix of its namespace, which is declared when it is new.
func (w *writer) name(n xml.Name) string {
	switch {
	case n.Space == "":
		return n.Local
	case isXML(n.Space):
		return "xml:" + n.Local
	}
	prefix, ok := w.prefixes[n.Space]
	if !ok {
		prefix = "n" + strconv.Itoa(len(w.prefixes))
		w.prefixes[n.Space] = prefix
		attribute(&w.attributes, "xmlns:"+prefix, n.Space)
	}
	return prefix + ":" + n.Local
}

func attribute(b *strings.Builder, name, value string) {
	b.WriteString(" " + name + `="`)
	_ = xml.EscapeText(b, []byte(value)) // a strings.Builder takes everything
	b.WriteString(`"`)
}
