package draft

import (
	"slices"
	"strings"
)

// deepest is how many levels of a schema are looked at: what we look for is near the top.
const deepest = 6

// A shape is what a schema says about a value.
type shape struct {
	kind   string // "object", "array", "string", "integer", "boolean", "number"; empty where it does not say
	fields []field
	items  *shape
	enum   []string
	format string
	words  string // its description, in lower case
}

// A field is one of an object's.
type field struct {
	name     string
	shape    *shape
	required bool
}

func (s *shape) add(name string, of *shape, required bool) {
	if of == nil {
		of = &shape{}
	}
	if i := slices.IndexFunc(s.fields, func(f field) bool { return f.name == name }); i >= 0 {
		s.fields[i].required = s.fields[i].required || required
		return
	}
	s.fields = append(s.fields, field{name, of, required})
}

// shape reads a schema to a depth: through references, and with what allOf, oneOf and anyOf put together. It is nil for
// none.
func (d *document) shape(node any, depth int) *shape {
	o := asObject(d.resolve(node))
	if o == nil || depth == 0 {
		return nil
	}
	s := &shape{kind: kindOf(o["type"]), format: textOf(o["format"]), words: strings.ToLower(textOf(o["description"]))}
	for _, value := range asList(o["enum"]) {
		s.enum = append(s.enum, textOf(value))
	}
	if items := o["items"]; items != nil {
		s.items = d.shape(items, depth-1)
		s.kind = "array"
	}
	required := asList(o["required"])
	properties := asObject(o["properties"])
	for _, name := range sortedKeys(properties) {
		s.add(name, d.shape(properties[name], depth-1), slices.ContainsFunc(required,
			func(n any) bool { return textOf(n) == name }))
	}
	for _, how := range []string{"allOf", "oneOf", "anyOf"} {
		for _, part := range asList(o[how]) {
			s.merge(d.shape(part, depth-1), how == "allOf")
		}
	}
	if s.kind == "" && len(s.fields) > 0 {
		s.kind = "object"
	}
	return s
}

// merge adds what another shape says; all is whether a value always has both.
func (s *shape) merge(other *shape, all bool) {
	if other == nil || other.kind == "null" {
		return
	}
	if s.kind == "" {
		s.kind = other.kind
	}
	if s.items == nil {
		s.items = other.items
	}
	s.enum = append(s.enum, other.enum...)
	for _, f := range other.fields {
		s.add(f.name, f.shape, f.required && all)
	}
}

// kindOf reads a type, which may be one of several (OpenAPI 3.1).
func kindOf(node any) string {
	for _, one := range asList(node) {
		if kind := textOf(one); kind != "null" {
			return kind
		}
	}
	return textOf(node)
}

// A spot is where a value is, as a JSONPath seen from a result.
type spot struct {
	path  string
	shape *shape
}

// find looks for a field that has one of some names, in the order of the names: at the top, and one level below.
func (s *shape) find(names []string) (spot, bool) {
	if s == nil {
		return spot{}, false
	}
	for _, name := range names {
		outer, inner, nested := strings.Cut(name, ".")
		for _, f := range s.fields {
			if plainName(f.name) != outer {
				continue
			}
			if !nested && f.shape.kind != "object" && len(f.shape.fields) == 0 {
				return spot{"$" + step(f.name), f.shape}, true
			}
			if below, found := f.shape.find([]string{inner}); nested && found {
				return spot{"$" + step(f.name) + below.path[1:], below.shape}, true
			}
		}
	}
	return spot{}, false
}

// step is a name as a step of a JSONPath (RFC 9535, section 2.5.1).
func step(name string) string {
	if strings.Trim(name, letters+"_") == "" && name != "" && strings.IndexByte("0123456789", name[0]) < 0 {
		return "." + name
	}
	return "['" + strings.ReplaceAll(name, "'", `\'`) + "']"
}

const letters = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789"

// plainName is a name without how it is written: expires_at, expiresAt and expires-at are one.
func plainName(name string) string {
	return strings.ToLower(strings.Map(func(c rune) rune {
		if c == '_' || c == '-' || c == ' ' {
			return -1
		}
		return c
	}, name))
}

// inner is an object in which results may be wrapped: the only field of an object that has objects.
var wrappers = []string{"data", "result", "results", "items", "values", "content", "contents", "list", "records",
	"entries", "elements", "nodes", "response", "payload"}

// list finds the list of results in a reply that fits: the reply itself, or a list in up to two envelopes. place is
// empty for the reply itself.
func (s *shape) list(fits func(item *shape) bool) (place string, item *shape, found bool) {
	return s.listBelow("$", 3, fits)
}

func (s *shape) listBelow(path string, depth int, fits func(item *shape) bool) (string, *shape, bool) {
	switch {
	case s == nil || depth == 0:
		return "", nil, false
	case s.kind == "array" && s.items != nil && fits(s.items):
		if path == "$" {
			return "", s.items, true
		}
		return path + "[*]", s.items, true
	}
	for _, known := range []bool{true, false} { // usual names first
		for _, f := range s.fields {
			if slices.Contains(wrappers, plainName(f.name)) != known {
				continue
			}
			if place, item, found := f.shape.listBelow(path+step(f.name), depth-1, fits); found {
				return place, item, true
			}
		}
	}
	return "", nil, false
}

// single finds the one result in a reply that fits: the reply itself, or an object in an envelope.
func (s *shape) single(fits func(item *shape) bool) (place string, item *shape, found bool) {
	if s == nil || s.kind == "array" {
		return "", nil, false
	}
	if fits(s) {
		return "", s, true
	}
	for _, f := range s.fields {
		if f.shape.kind != "array" && fits(f.shape) {
			return "$" + step(f.name), f.shape, true
		}
	}
	return "", nil, false
}
