// Package dav is the XML of WebDAV (RFC 4918, section 14): it reads what
// clients ask for and writes what they are told. It knows nothing of files.
package dav

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"
)

// ErrMalformed: a request's document is not what its method needs.
var ErrMalformed = errors.New("malformed XML")

// Bounds of a request's document. All are checked while it is read.
const (
	MostBytes        = 1 << 20
	mostDepth        = 100
	mostElements     = 10_000
	mostAttributes   = 10_000 // of all elements together, declarations of prefixes among them
	mostDeclarations = 1_000  // of prefixes
	mostProperties   = 1_000  // that are asked for, or changed
	mostOwner        = 4 << 10
)

// element is one element of a document with what it holds.
type element struct {
	xml.Name
	attributes []xml.Attr // without declarations of prefixes
	content    []any      // *element, and string for text, in their order
}

// children are the elements right in it.
func (e *element) children() (list []*element) {
	for _, c := range e.content {
		if child, ok := c.(*element); ok {
			list = append(list, child)
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
	root, err := new(parser).document(text)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrMalformed, err)
	}
	return root, nil
}

// parser reads one document.
type parser struct {
	root *element
	open []*element
	// declares are the namespaces that each open element declares, and scope how many
	// open elements declare one.
	declares                           [][]string
	scope                              map[string]int
	elements, attributes, declarations int
}

func (p *parser) document(text []byte) (*element, error) {
	p.scope = map[string]int{}
	decoder := xml.NewDecoder(bytes.NewReader(text))
	for first := true; ; first = false {
		token, err := decoder.Token()
		if err == io.EOF {
			break
		}
		if err == nil {
			err = p.token(token, first)
		}
		if err != nil {
			return nil, err
		}
	}
	if p.root == nil {
		return nil, errors.New("there is no element")
	}
	return p.root, nil
}

func (p *parser) token(token xml.Token, first bool) error {
	switch t := token.(type) {
	case xml.Directive: // no declarations of types or entities
		return errors.New("a document type is not welcome")
	case xml.ProcInst:
		if !first || t.Target != "xml" {
			return errors.New("a processing instruction is not welcome")
		}
	case xml.CharData:
		switch {
		case len(p.open) > 0:
			within := p.open[len(p.open)-1]
			within.content = append(within.content, string(t))
		case strings.TrimSpace(string(t)) != "":
			return errors.New("text outside of the document")
		}
	case xml.StartElement:
		return p.begin(t)
	case xml.EndElement:
		last := len(p.open) - 1
		for _, uri := range p.declares[last] {
			p.scope[uri]--
		}
		p.open, p.declares = p.open[:last], p.declares[:last]
	}
	return nil
}

// begin reads an element's names. The decoder leaves a prefix that nobody declared as if
// it were a namespace: that is refused here.
func (p *parser) begin(t xml.StartElement) error {
	p.elements++
	p.attributes += len(t.Attr)
	switch {
	case p.elements > mostElements:
		return fmt.Errorf("more than %d elements", mostElements)
	case p.attributes > mostAttributes:
		return fmt.Errorf("more than %d attributes", mostAttributes)
	case len(p.open) == mostDepth:
		return fmt.Errorf("more than %d elements deep", mostDepth)
	case len(p.open) == 0 && p.root != nil:
		return errors.New("two documents in one")
	}
	e := &element{Name: t.Name}
	var declares []string
	seen := make(map[xml.Name]bool, len(t.Attr))
	for _, a := range t.Attr {
		if seen[a.Name] {
			return fmt.Errorf("%s has the attribute %s twice", t.Name.Local, a.Name.Local)
		}
		seen[a.Name] = true
		switch {
		case a.Name.Space == "xmlns":
			if a.Value == "" { // Namespaces in XML 1.0, section 5
				return fmt.Errorf("the prefix %s is declared for nothing", a.Name.Local)
			}
			declares = append(declares, a.Value)
		case a.Name.Space == "" && a.Name.Local == "xmlns":
			declares = append(declares, a.Value)
		default:
			e.attributes = append(e.attributes, a)
		}
	}
	if p.declarations += len(declares); p.declarations > mostDeclarations {
		return fmt.Errorf("more than %d declarations of prefixes", mostDeclarations)
	}
	for _, uri := range declares {
		p.scope[uri]++
	}
	for _, n := range append([]xml.Name{t.Name}, namesOf(e.attributes)...) {
		if n.Space != "" && !isXML(n.Space) && p.scope[n.Space] == 0 {
			return fmt.Errorf("nobody declared the prefix of %s:%s", n.Space, n.Local)
		}
	}
	if len(p.open) == 0 {
		p.root = e
	} else {
		within := p.open[len(p.open)-1]
		within.content = append(within.content, e)
	}
	p.open, p.declares = append(p.open, e), append(p.declares, declares)
	return nil
}

func namesOf(attributes []xml.Attr) (names []xml.Name) {
	for _, a := range attributes {
		names = append(names, a.Name)
	}
	return names
}

// isXML reports whether a namespace is the one that needs no declaration, and its prefix
// is always xml (Namespaces in XML 1.0, section 3).
func isXML(space string) bool {
	return space == "http://www.w3.org/XML/1998/namespace" || space == "xml"
}

func (e *element) is(local string) bool { return e != nil && e.Space == "DAV:" && e.Local == local }

// child is the first element of a name of DAV: right in it.
func (e *element) child(local string) *element {
	for _, c := range e.children() {
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
		for _, c := range props.children() {
			p.Props = append(p.Props, c.Name)
		}
	}
	if len(p.Props) > mostProperties {
		return p, fmt.Errorf("%w: more than %d properties", ErrMalformed, mostProperties)
	}
	return p, nil
}

// Property is a property that a client keeps at a resource.
type Property struct {
	Space string `json:"space,omitempty"`
	Local string `json:"local"`
	// Attributes are the declarations that its content needs, and its language.
	Attributes string `json:"attributes,omitempty"`
	Inner      string `json:"inner,omitempty"`
}

// Sound reports whether a property can be part of an answer: what an earlier version has kept
// may make all of it malformed.
func (p Property) Sound() bool {
	text := append([]byte(`<D:prop xmlns:D="DAV:">`), Element(nil, p)...)
	_, err := parse(bytes.NewReader(append(text, "</D:prop>"...)))
	return err == nil
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
	for _, step := range root.children() {
		if !step.is("set") && !step.is("remove") {
			continue
		}
		for _, props := range step.children() {
			if !props.is("prop") {
				continue
			}
			for _, c := range props.children() {
				p := Patch{Remove: step.is("remove"), Property: Property{Space: c.Space, Local: c.Local}}
				if !p.Remove {
					p.Inner, p.Attributes = c.written(language(c, props, step, root))
				}
				if list = append(list, p); len(list) > mostProperties {
					return nil, fmt.Errorf("%w: more than %d properties", ErrMalformed, mostProperties)
				}
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
		p := Property{Space: "DAV:", Local: "owner"}
		p.Inner, p.Attributes = owner.written(language(owner, root))
		if info.Owner = string(Element(nil, p)); len(info.Owner) > mostOwner {
			return LockInfo{}, fmt.Errorf("%w: an owner of more than %d bytes", ErrMalformed, mostOwner)
		}
	}
	return info, nil
}
