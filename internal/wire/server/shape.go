package server

import (
	"encoding/xml"
	"reflect"
	"strings"
	"sync"
)

// shape is what an element of a document may hold, as the type that it is read into says: a
// field is an element, a slice one that may be there several times. An element that is unknown,
// doubled, empty, or of another namespace is refused, not left out: each of them would have the
// document mean something else than what was written.
type shape struct {
	holds map[string]*member
	any   bool // others are refused by whoever reads them, by name
}

type member struct {
	many  bool
	empty bool   // it may be
	shape *shape // nil: it is text
}

// mayBeEmpty are the elements that mean something without content: no prefix, no value, a filter
// for everything, no tags.
var mayBeEmpty = map[string]bool{"Prefix": true, "Value": true, "ID": true, "Role": true, "LocationConstraint": true,
	"Filter": true, "TagSet": true, "MfaDelete": true, "KMSMasterKeyID": true}

var shapes sync.Map // of reflect.Type

// shapeOf gives the shape of the documents that are read into v.
func shapeOf(v any) *shape {
	t := reflect.TypeOf(v).Elem()
	if s, ok := shapes.Load(t); ok {
		return s.(*shape)
	}
	s, _ := shapes.LoadOrStore(t, newShape(t))
	return s.(*shape)
}

func newShape(t reflect.Type) *shape {
	s := &shape{holds: map[string]*member{}}
	for f := range t.Fields() {
		name, option, _ := strings.Cut(f.Tag.Get("xml"), ",")
		switch {
		case f.Type == reflect.TypeFor[xml.Name]():
			continue
		case option == "any":
			s.any = true
			continue
		case name == "":
			name = f.Name
		}
		m := &member{empty: mayBeEmpty[name]}
		of := f.Type
		if m.many = of.Kind() == reflect.Slice; m.many {
			of = of.Elem()
		}
		if of.Kind() == reflect.Pointer {
			of = of.Elem()
		}
		if of.Kind() == reflect.Struct {
			m.shape = newShape(of)
		}
		s.holds[name] = m
	}
	return s
}

// elementIn is an element that a document is in.
type elementIn struct {
	name  string
	is    *member
	skip  bool // what is in it is not looked at: whoever reads it refuses it
	seen  map[string]bool
	holds bool // something stands in it
}

// enter checks an element that begins.
func (c *checked) enter(e xml.StartElement) {
	name := e.Name.Local
	if e.Name.Space != "" {
		c.refuse("the element %s:%s is of a namespace of its own", e.Name.Space, name)
		return
	}
	for _, a := range e.Attr {
		if a.Name.Space == "" && a.Name.Local == "xmlns" && a.Value != "" && a.Value != namespace {
			c.refuse("the element %s is of another namespace", name)
			return
		}
	}
	if len(c.places) == 0 {
		if c.rooted {
			c.refuse("something follows the document")
		}
		c.rooted = true
		c.places = append(c.places, elementIn{name: name, is: &member{shape: c.shape, empty: true}})
		return
	}
	p := &c.places[len(c.places)-1]
	p.holds = true
	switch {
	case p.skip:
		c.places = append(c.places, elementIn{name: name, is: p.is, skip: true})
		return
	case p.is.shape == nil:
		c.refuse("%s is text, and holds an element %s", p.name, name)
		return
	}
	m := p.is.shape.holds[name]
	switch {
	case m == nil && p.is.shape.any:
		c.places = append(c.places, elementIn{name: name, skip: true})
	case m == nil:
		c.refuse("%s has no element %s", p.name, name)
	case !m.many && p.seen[name]:
		c.refuse("%s is there twice in %s", name, p.name)
	default:
		if p.seen == nil {
			p.seen = map[string]bool{}
		}
		p.seen[name] = true
		c.places = append(c.places, elementIn{name: name, is: m})
	}
}

// leave checks an element that ends.
func (c *checked) leave() {
	if len(c.places) == 0 {
		return // the decoder says so
	}
	p := c.places[len(c.places)-1]
	c.places = c.places[:len(c.places)-1]
	if !p.skip && !p.holds && !p.is.empty {
		c.refuse("%s is empty", p.name)
	}
}

// within checks text between tags.
func (c *checked) within(text []byte) {
	blank := len(strings.TrimSpace(string(text))) == 0
	if len(c.places) == 0 {
		if !blank {
			c.refuse("text stands outside of the document")
		}
		return
	}
	p := &c.places[len(c.places)-1]
	switch {
	case p.skip:
	case p.is.shape == nil && len(text) > 0:
		// White space is a value where text is wanted, a key of blanks say; not of a number.
		p.holds = true
	case !blank:
		c.refuse("%s holds elements, and has text between them", p.name)
	}
}

func (c *checked) refuse(format string, args ...any) {
	if c.refused == nil {
		c.refused = malformed("The XML you provided was not well-formed or did not validate against our published schema: "+
			format, args...)
	}
}
