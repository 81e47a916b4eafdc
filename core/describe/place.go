package describe

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/textproto"
	"strconv"
	"strings"

	"github.com/theory/jsonpath"
)

// A Node is a value of a JSON document (RFC 8259), as encoding/json decodes it: a string, a [json.Number], which keeps
// all digits, a bool, nil, a []any or a map[string]any.
type Node struct{ Value any }

// List returns the values of a list; isList is false for anything else.
func (n *Node) List() (nodes []*Node, isList bool) {
	list, isList := n.Value.([]any)
	for _, value := range list {
		nodes = append(nodes, &Node{value})
	}
	return nodes, isList
}

// Scalar returns a text, a number or a truth value as text; is is false for anything else, null included.
func (n *Node) Scalar() (text string, is bool) {
	switch value := n.Value.(type) {
	case string:
		return value, true
	case json.Number:
		return value.String(), true
	case bool:
		return strconv.FormatBool(value), true
	}
	return "", false
}

// IsEmpty reports whether a value has nothing in it: a list or an object without anything, or no such value at all.
func (n *Node) IsEmpty() bool {
	switch value := n.Value.(type) {
	case []any:
		return len(value) == 0
	case map[string]any:
		return len(value) == 0
	}
	return true
}

// Places say where a value is: one place, or several whose values are joined by a space. Each
// is a path in the result [9535], or the word "header" and the name of a header.
type Places []string

// ErrPlace is returned for a text that is no place.
var ErrPlace = errors.New(`a place is a JSONPath such as "$.account", with ".." in it once at most, or "header" and the name of a header`)

const headerPlace = "header "

// place checks one.
func place(text string) error {
	if name, found := strings.CutPrefix(text, headerPlace); found {
		if name == "" || strings.ContainsAny(name, " :\r\n") {
			return ErrPlace
		}
		return nil
	}
	_, err := path(text)
	return err
}

func path(text string) (*jsonpath.Path, error) {
	if !strings.HasPrefix(text, "$") || len(text) > 500 || strings.Count(text, "..") > 1 { // ".." in ".." multiplies
		return nil, ErrPlace
	}
	p, err := jsonpath.Parse(text)
	if err != nil {
		first, _, _ := strings.Cut(strings.TrimPrefix(err.Error(), "jsonpath: "), "\n")
		return nil, fmt.Errorf("%w; this one cannot be read: %s", ErrPlace, first)
	}
	return p, nil
}

// Follow finds the values at a path in a document; none where there is nothing. They come in the order of their places:
// the names of an object by the alphabet, since an object has no order (RFC 9535, section 2.3.2.2).
func Follow(document *Node, text string) []*Node {
	p, err := path(text)
	if err != nil || document == nil {
		return nil
	}
	found := p.SelectLocated(document.Value)
	found.Sort()
	nodes := make([]*Node, len(found))
	for i, located := range found {
		nodes[i] = &Node{located.Node}
	}
	return nodes
}

// Values finds the values at the places in a result; headers are those of its answer. Values
// that are neither objects nor lists come as text, null not at all.
func (p Places) Values(result *Node, headers map[string][]string) []string {
	var list []string
	for _, text := range p {
		if name, found := strings.CutPrefix(text, headerPlace); found {
			list = append(list, textproto.MIMEHeader(headers).Values(name)...)
			continue
		}
		for _, node := range Follow(result, text) {
			items, isList := node.List()
			if !isList {
				items = []*Node{node}
			}
			for _, item := range items {
				if text, is := item.Scalar(); is {
					list = append(list, text)
				}
			}
		}
	}
	return list
}

// UnmarshalText lets a single place stand for a list of one.
func (p *Places) UnmarshalText(text []byte) error {
	*p = Places{string(text)}
	return nil
}
