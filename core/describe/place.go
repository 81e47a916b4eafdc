package describe

import (
	"errors"
	"fmt"
	"net/textproto"
	"strings"

	"github.com/speakeasy-api/jsonpath/pkg/jsonpath"
	"gopkg.in/yaml.v3"
)

// A Node is a value of a JSON document.
type Node = yaml.Node

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

func path(text string) (*jsonpath.JSONPath, error) {
	if !strings.HasPrefix(text, "$") || len(text) > 500 || strings.Count(text, "..") > 1 { // ".." in ".." multiplies
		return nil, ErrPlace
	}
	p, err := jsonpath.NewPath(text)
	if err != nil {
		first, _, _ := strings.Cut(err.Error(), "\n")
		return nil, fmt.Errorf("%w; this one cannot be read: %s", ErrPlace, first)
	}
	return p, nil
}

// Follow finds the values at a path in a document; none where there is nothing.
func Follow(document *Node, text string) []*Node {
	p, err := path(text)
	if err != nil || document == nil {
		return nil
	}
	return p.Query(document)
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
			if node.Kind == yaml.SequenceNode {
				for _, item := range node.Content {
					list = appendScalar(list, item)
				}
				continue
			}
			list = appendScalar(list, node)
		}
	}
	return list
}

func appendScalar(list []string, node *Node) []string {
	if node.Kind == yaml.ScalarNode && node.Tag != "!!null" {
		return append(list, node.Value)
	}
	return list
}

// UnmarshalText lets a single place stand for a list of one.
func (p *Places) UnmarshalText(text []byte) error {
	*p = Places{string(text)}
	return nil
}
