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
			return &describe.Node{Value: map[string]any{}}, nil
		}
		return nil, nil
	}
	node, err := decode(a.text)
	switch {
	case err != nil && a.kind() == "text/plain" && len(o.Fields) > 0 && o.Items == "": // the text is the value
		return &describe.Node{Value: strings.TrimSpace(string(a.text))}, nil
	case err != nil && (a.kind() == "text/html" || bytes.HasPrefix(bytes.TrimSpace(a.text), []byte("<"))):
		return nil, ErrPage
	case err != nil && len(o.Fields) == 0 && o.Items == "" && o.Refused == "":
		return nil, nil // nothing is to be found in it
	case err != nil:
		return nil, fmt.Errorf("%w: %w", ErrAnswer, err)
	}
	if o.Refused != "" {
		if words := said(node, describe.Places{o.Refused}); words != "" {
			return nil, &Refusal{Status: a.status, Message: words, Means: c.Description.Meaning(words)}
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
var usual = describe.Places{"$.title", "$.detail", "$.message", "$.error_description", "$.error", "$.error.message",
	"$.errors[*].message", "$.errors[*]", "$.msg"}

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
	return &Refusal{Status: a.status, Message: words[:min(len(words), maxDetail)], Means: c.Description.Meaning(words)}
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
			if !found.IsEmpty() {
				return strings.Join(usual.Values(first(found), nil), ": ")
			}
		}
	}
	return strings.Join(list, ": ")
}

// first is the first of a list, or the thing itself.
func first(node *describe.Node) *describe.Node {
	if list, isList := node.List(); isList {
		return list[0]
	}
	return node
}

// items finds the results in an answer: a list, or the one thing that it is.
func items(o describe.Operation, node *describe.Node) ([]*describe.Node, error) {
	if node == nil {
		return nil, nil
	}
	if o.Items == "" {
		if list, isList := node.List(); isList {
			return list, nil
		}
		return []*describe.Node{node}, nil
	}
	found := describe.Follow(node, o.Items)
	if len(found) == 1 {
		if list, isList := found[0].List(); isList {
			return list, nil
		}
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
	document, err := decodeValue(decoder, 0, &left)
	if err != nil {
		if !errors.Is(err, errDeep) && !errors.Is(err, errMany) {
			err = errors.New("not JSON")
		}
		return nil, err
	}
	if _, err := decoder.Token(); !errors.Is(err, io.EOF) {
		return nil, errors.New("more than one JSON document")
	}
	return &describe.Node{Value: document}, nil
}

func decodeValue(decoder *json.Decoder, depth int, left *int) (any, error) {
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
	switch token {
	case json.Delim('['):
		return decodeList(decoder, depth, left)
	case json.Delim('{'):
		return decodeObject(decoder, depth, left)
	}
	return token, nil
}

func decodeList(decoder *json.Decoder, depth int, left *int) (any, error) {
	list := []any{}
	for decoder.More() {
		value, err := decodeValue(decoder, depth+1, left)
		if err != nil {
			return nil, err
		}
		list = append(list, value)
	}
	_, err := decoder.Token()
	return list, err
}

func decodeObject(decoder *json.Decoder, depth int, left *int) (any, error) {
	object := map[string]any{}
	for decoder.More() {
		name, err := decodeValue(decoder, depth+1, left) // the names come as texts, before their values
		if err != nil {
			return nil, err
		}
		value, err := decodeValue(decoder, depth+1, left)
		if err != nil {
			return nil, err
		}
		object[name.(string)] = value // of two of one name the last counts, as with encoding/json
	}
	_, err := decoder.Token()
	return object, err
}
