// Package dav is the XML of WebDAV (RFC 4918, section 14): it reads what
// clients ask for and writes what they are told. It knows nothing of files.
package dav

import (
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
)

// ErrMalformed: a request's document is not what its method needs.
var ErrMalformed = errors.New("malformed XML")

// Bounds of a request's document.
const (
	MostBytes = 1 << 20
	mostDepth = 100
)

// element is one element of a document with what it holds.
type element struct {
	xml.Name
	attributes []xml.Attr
	inner      string // as it was sent
	scope      *scope
	children   []*element
}

// scope is the prefixes that are declared at an element and above it.
type scope struct {
	above       *scope
	prefix, uri string
}

func (s *scope) declares(uri string) bool {
	for ; s != nil; s = s.above {
		if s.uri == uri {
			return true
		}
	}
	return false
}

// declared are the declarations that hold, the nearest of each prefix.
func (s *scope) declared() (list []xml.Attr) {
	for ; s != nil; s = s.above {
		if !slices.ContainsFunc(list, func(a xml.Attr) bool { return a.Name.Local == s.prefix }) {
			list = append(list, xml.Attr{Name: xml.Name{Local: s.prefix}, Value: s.uri})
		}
	}
	return list
}

// parse reads a whole document. It returns nil for an empty one.
func parse(r io.Reader) (*element, error) {
	text, err := io.ReadAll(io.LimitReader(r, MostBytes+1))
	if err != nil {
		return nil, err
	}
	if len(text) > MostBytes {
		return nil, fmt.Errorf("%w: longer than %d bytes", ErrMalformed, MostBytes)
	}
	if len(text) == 0 {
		return nil, nil
	}
	root, err := parseText(text)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrMalformed, err)
	}
	return root, nil
}

func parseText(text []byte) (*element, error) {
	decoder := xml.NewDecoder(strings.NewReader(string(text)))
	var root *element
	var open []*element
	var begins []int64
	for {
		before := decoder.InputOffset()
		token, err := decoder.Token()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, err
		}
		switch t := token.(type) {
		case xml.Directive: // no declarations of types or entities
			return nil, errors.New("a document type is not welcome")
		case xml.CharData:
			if len(open) == 0 && strings.TrimSpace(string(t)) != "" {
				return nil, errors.New("text outside of the document")
			}
		case xml.StartElement:
			if len(open) == mostDepth {
				return nil, fmt.Errorf("more than %d elements deep", mostDepth)
			}
			var above *scope
			if len(open) > 0 {
				above = open[len(open)-1].scope
			} else if root != nil {
				return nil, errors.New("two documents in one")
			}
			e, err := start(t, above)
			if err != nil {
				return nil, err
			}
			if len(open) == 0 {
				root = e
			} else {
				parent := open[len(open)-1]
				parent.children = append(parent.children, e)
			}
			open, begins = append(open, e), append(begins, decoder.InputOffset())
		case xml.EndElement:
			last := len(open) - 1
			open[last].inner = string(text[begins[last]:max(before, begins[last])])
			open, begins = open[:last], begins[:last]
		}
	}
	if root == nil {
		return nil, errors.New("there is no element")
	}
	return root, nil
}

// start reads an element's names. The decoder leaves a prefix that nobody
// declared as if it were a namespace: that is refused here.
func start(t xml.StartElement, above *scope) (*element, error) {
	e := &element{Name: t.Name, scope: above}
	for _, a := range t.Attr {
		switch {
		case a.Name.Space == "xmlns":
			if a.Value == "" { // Namespaces in XML 1.0, section 5
				return nil, fmt.Errorf("the prefix %s is declared for nothing", a.Name.Local)
			}
			e.scope = &scope{e.scope, a.Name.Local, a.Value}
		case a.Name.Space == "" && a.Name.Local == "xmlns":
			e.scope = &scope{e.scope, "", a.Value}
		default:
			e.attributes = append(e.attributes, a)
		}
	}
	names := []xml.Name{t.Name}
	for _, a := range e.attributes {
		names = append(names, a.Name)
	}
	for _, n := range names {
		if n.Space != "" && n.Space != "http://www.w3.org/XML/1998/namespace" && n.Space != "xml" && !e.scope.declares(n.Space) {
			return nil, fmt.Errorf("nobody declared the prefix of %s:%s", n.Space, n.Local)
		}
	}
	return e, nil
}

func (e *element) is(local string) bool { return e != nil && e.Space == "DAV:" && e.Local == local }

func (e *element) child(local string) *element {
	for _, c := range e.children {
		if c.is(local) {
			return c
		}
	}
	return nil
}

// Propfind is what a PROPFIND asks for (section 14.20).
type Propfind struct {
	All   bool       // all properties that there are, and those named beside
	Names bool       // the names alone
	Props []xml.Name // these
}

// ParsePropfind reads the document of a PROPFIND; an empty one asks for all.
func ParsePropfind(r io.Reader) (Propfind, error) {
	root, err := parse(r)
	if root == nil || err != nil {
		return Propfind{All: true}, err
	}
	if !root.is("propfind") {
		return Propfind{}, fmt.Errorf("%w: %s is no propfind", ErrMalformed, root.Local)
	}
	p := Propfind{All: root.child("allprop") != nil, Names: root.child("propname") != nil}
	props := root.child("prop")
	if (p.All || p.Names) == (props != nil) || p.All && p.Names {
		return p, fmt.Errorf("%w: exactly one of allprop, propname and prop is needed", ErrMalformed)
	}
	if p.All {
		props = root.child("include")
	}
	if props != nil {
		for _, c := range props.children {
			p.Props = append(p.Props, c.Name)
		}
	}
	return p, nil
}

// Property is a property that a client keeps at a resource, as it was sent.
type Property struct {
	Space string `json:"space,omitempty"`
	Local string `json:"local"`
	// Attributes are the declarations that its content needs, and its language.
	Attributes string `json:"attributes,omitempty"`
	Inner      string `json:"inner,omitempty"`
}

// Name is its name.
func (p Property) Name() xml.Name { return xml.Name{Space: p.Space, Local: p.Local} }

// Patch is one step of a PROPPATCH: a property to set or to remove.
type Patch struct {
	Remove bool
	Property
}

// ParsePropertyUpdate reads the document of a PROPPATCH (section 14.19). The
// steps are in the order in which they are to be done.
func ParsePropertyUpdate(r io.Reader) ([]Patch, error) {
	root, err := parse(r)
	if err != nil {
		return nil, err
	}
	if root == nil || !root.is("propertyupdate") {
		return nil, fmt.Errorf("%w: a propertyupdate is needed", ErrMalformed)
	}
	var list []Patch
	for _, step := range root.children {
		if !step.is("set") && !step.is("remove") {
			continue
		}
		for _, props := range step.children {
			if !props.is("prop") {
				continue
			}
			for _, c := range props.children {
				p := Patch{Remove: step.is("remove"), Property: Property{Space: c.Space, Local: c.Local}}
				if !p.Remove {
					p.Inner, p.Attributes = c.inner, c.kept(language(c, props, step, root))
				}
				list = append(list, p)
			}
		}
	}
	if len(list) == 0 {
		return nil, fmt.Errorf("%w: it changes nothing", ErrMalformed)
	}
	return list, nil
}

// language is what xml:lang says about an element, itself or from above (section 4.3).
func language(chain ...*element) string {
	for _, e := range chain {
		for _, a := range e.attributes {
			if a.Name.Local == "lang" && a.Name.Space != "" {
				return a.Value
			}
		}
	}
	return ""
}

// kept are the attributes with which the content of an element stays what it is.
func (e *element) kept(language string) string {
	var b strings.Builder
	for _, a := range e.scope.declared() {
		name := "xmlns"
		if a.Name.Local != "" {
			name += ":" + a.Name.Local
		}
		if strings.Contains(e.inner, "<") {
			attribute(&b, name, a.Value)
		}
	}
	if language != "" {
		attribute(&b, "xml:lang", language)
	}
	return b.String()
}

func attribute(b *strings.Builder, name, value string) {
	b.WriteString(" " + name + `="`)
	_ = xml.EscapeText(b, []byte(value)) // a strings.Builder takes everything
	b.WriteString(`"`)
}

// LockInfo is what a LOCK asks for (section 14.11).
type LockInfo struct {
	Refresh bool // the document was empty
	Shared  bool
	Owner   string // an element, or ""
}

// ParseLockInfo reads the document of a LOCK.
func ParseLockInfo(r io.Reader) (LockInfo, error) {
	root, err := parse(r)
	if err != nil {
		return LockInfo{}, err
	}
	if root == nil {
		return LockInfo{Refresh: true}, nil
	}
	scope, kind := root.child("lockscope"), root.child("locktype")
	if !root.is("lockinfo") || scope == nil || kind == nil || kind.child("write") == nil || (scope.child("shared") == nil) == (scope.child("exclusive") == nil) {
		return LockInfo{}, fmt.Errorf("%w: a lockinfo for a shared or an exclusive write lock is needed", ErrMalformed)
	}
	info := LockInfo{Shared: scope.child("shared") != nil}
	if owner := root.child("owner"); owner != nil {
		info.Owner = string(Element(nil, Property{Space: "DAV:", Local: "owner", Attributes: owner.kept(language(owner, root)), Inner: owner.inner}))
	}
	return info, nil
}
