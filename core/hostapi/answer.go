package hostapi

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"slices"
	"strings"

	"gopkg.in/yaml.v3"

	"anchorage.example/unicrux/core/describe"
)

// An answer is what came back, read within our limits.
type answer struct {
	status  int
	headers http.Header
	text    []byte
}

func (a answer) kind() string {
	kind, _, _ := mime.ParseMediaType(a.headers.Get("Content-Type"))
	return kind
}

// declined is an error by which the host did nothing.
type declined struct{ error }

// Refused tells that the host did nothing.
func (d declined) Refused() bool { return true }
func (d declined) Unwrap() error { return d.error }

// done tells whether an operation did what it should, or how it did not.
func (c *Client) done(o describe.Operation, a answer) (*describe.Node, error) {
	succeeded := a.status >= 200 && a.status < 300
	if len(o.Success) > 0 {
		succeeded = slices.Contains(o.Success, a.status)
	}
	switch {
	case slices.Contains(o.Already, a.status):
		return nil, declined{ErrAlready}
	case slices.Contains(o.Gone, a.status):
		return nil, declined{ErrGone}
	case !succeeded && a.status >= 300 && a.status < 400:
		return nil, declined{ErrRedirect}
	case !succeeded:
		return nil, c.refusal(a)
	}
	a.text = bytes.TrimPrefix(bytes.TrimLeft(a.text, " \t\r\n"), []byte(c.Description.Interface.Guard))
	if len(bytes.TrimSpace(a.text)) == 0 {
		if o.Items == "" && o.Refused == "" && inHeaders(o.Fields) {
			return &describe.Node{Kind: yaml.MappingNode, Tag: "!!map"}, nil
		}
		return nil, nil
	}
	node, err := decode(a.text)
	switch {
	case err != nil && a.kind() == "text/plain" && len(o.Fields) > 0 && o.Items == "": // the text is the value
		return scalar("!!str", strings.TrimSpace(string(a.text))), nil
	case err != nil && (a.kind() == "text/html" || bytes.HasPrefix(bytes.TrimSpace(a.text), []byte("<"))):
		return nil, ErrPage
	case err != nil && len(o.Fields) == 0 && o.Items == "" && o.Refused == "":
		return nil, nil // nothing is to be found in it
	case err != nil:
		return nil, fmt.Errorf("%w: %w", ErrAnswer, err)
	}
	if o.Refused != "" {
		if words := said(node, describe.Places{o.Refused}); words != "" {
			return nil, &Refusal{Status: a.status, Words: words, Means: c.Description.Meaning(words)}
		}
	}
	return node, nil
}

// inHeaders tells whether one of some fields is found in the headers of an answer.
func inHeaders(fields map[string]describe.Places) bool {
	for _, places := range fields {
		if slices.ContainsFunc(places, func(place string) bool { return strings.HasPrefix(place, "header ") }) {
			return true
		}
	}
	return false
}

// usual are the places where interfaces put their words, after those of [9457].
var usual = describe.Places{"$.title", "$.detail", "$.message", "$.error_description", "$.error", "$.error.message", "$.errors[*].message", "$.errors[*]", "$.msg"}

func (c *Client) refusal(a answer) error {
	words := ""
	if node, err := decode(bytes.TrimPrefix(a.text, []byte(c.Description.Interface.Guard))); err == nil {
		places := describe.Places(c.Description.Interface.Errors)
		if len(places) == 0 {
			places = usual
		}
		words = said(node, places)
	} else if a.kind() == "text/plain" {
		words, _, _ = strings.Cut(strings.TrimSpace(string(a.text)), "\n")
	}
	return &Refusal{Status: a.status, Words: words[:min(len(words), maxDetail)], Means: c.Description.Meaning(words)}
}

// said joins the words at some places, each once. An object that stands there says so by
// being there.
func said(node *describe.Node, places describe.Places) string {
	var list []string
	for _, text := range places.Values(node, nil) {
		if text != "" && text != "false" && !slices.Contains(list, text) {
			list = append(list, text)
		}
	}
	if len(list) == 0 && len(places) == 1 {
		for _, found := range describe.Follow(node, places[0]) {
			if len(found.Content) > 0 {
				return strings.Join(usual.Values(first(found), nil), ": ")
			}
		}
	}
	return strings.Join(list, ": ")
}

// first is the first of a list, or the thing itself.
func first(node *describe.Node) *describe.Node {
	if node.Kind == yaml.SequenceNode {
		return node.Content[0]
	}
	return node
}

// items finds the results in an answer: a list, or the one thing that it is.
func items(o describe.Operation, node *describe.Node) ([]*describe.Node, error) {
	if node == nil {
		return nil, nil
	}
	if o.Items == "" {
		if node.Kind == yaml.SequenceNode {
			return node.Content, nil
		}
		return []*describe.Node{node}, nil
	}
	found := describe.Follow(node, o.Items)
	if len(found) == 1 && found[0].Kind == yaml.SequenceNode {
		return found[0].Content, nil
	}
	if len(found) == 0 && !strings.ContainsAny(o.Items, "*?:") && !strings.Contains(o.Items, "..") {
		return nil, fmt.Errorf("%w: no list at %s", ErrAnswer, o.Items)
	}
	return found, nil
}

// errDeep is returned for a document that is nested deeper than anybody needs.
var errDeep = errors.New("objects and lists in each other without end")

// errMany is returned for a document with more values than a page of any list has: each takes fifty
// times the memory that it takes on the wire.
var errMany = errors.New("too many values in an answer")

// decode reads a JSON document (RFC 8259). Numbers keep all their digits.
func decode(text []byte) (*describe.Node, error) {
	decoder := json.NewDecoder(bytes.NewReader(text))
	decoder.UseNumber()
	left := maxNodes
	node, err := decodeValue(decoder, 0, &left)
	if err != nil {
		if !errors.Is(err, errDeep) && !errors.Is(err, errMany) {
			err = errors.New("not JSON")
		}
		return nil, err
	}
	if _, err := decoder.Token(); !errors.Is(err, io.EOF) {
		return nil, errors.New("more than one JSON document")
	}
	return node, nil
}

func decodeValue(decoder *json.Decoder, depth int, left *int) (*describe.Node, error) {
	token, err := decoder.Token()
	if err != nil {
		return nil, err
	}
	if depth > maxDepth {
		return nil, errDeep
	}
	if *left--; *left < 0 {
		return nil, errMany
	}
	switch t := token.(type) {
	case json.Delim:
		kind, tag := yaml.MappingNode, "!!map"
		if t == '[' {
			kind, tag = yaml.SequenceNode, "!!seq"
		}
		node := &describe.Node{Kind: kind, Tag: tag}
		for decoder.More() { // the names of an object come as texts, before their values
			child, err := decodeValue(decoder, depth+1, left)
			if err != nil {
				return nil, err
			}
			node.Content = append(node.Content, child)
		}
		_, err := decoder.Token()
		return node, err
	case string:
		return scalar("!!str", t), nil
	case json.Number:
		if strings.ContainsAny(t.String(), ".eE") {
			return scalar("!!float", t.String()), nil
		}
		return scalar("!!int", t.String()), nil
	case bool:
		return scalar("!!bool", fmt.Sprint(t)), nil
	}
	return scalar("!!null", "null"), nil
}

func scalar(tag, text string) *describe.Node {
	return &describe.Node{Kind: yaml.ScalarNode, Tag: tag, Value: text}
}
