package draft

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"slices"
	"strings"
	"sync"

	"go.yaml.in/yaml/v3"

	"anchorage.example/unicrux/core/fault"
)

// MaxBytes bounds an API document. Those of large hosts have about ten million.
const MaxBytes = 64 << 20

// Reasons for which no draft can be made, for errors.Is.
var (
	// ErrDocument is returned, wrapped, for a text that is no OpenAPI 3 or Swagger 2 document in JSON or YAML.
	ErrDocument = fault.New("draft-document", fault.Misused, "not an OpenAPI 3 or Swagger 2.0 document")
	// ErrNowhere is returned where the document names no server, and nobody else does.
	ErrNowhere = fault.New("draft-nowhere", fault.Misused, "the document does not say where its API is")
)

// object is a JSON object as it was decoded.
type object = map[string]any

// A document is an API document, as far as a draft needs it.
type document struct {
	root       object
	swagger    bool // version 2.0; else OpenAPI 3
	base       *url.URL
	operations []*operation
	schemes    []scheme
}

// An operation is one request that the document describes.
type operation struct {
	id, method, path string
	words            string // its summary, tags and description, in lower case
	deprecated       bool
	open             bool // it says that nobody has to sign in
	parameters       []parameter
	body             func() *shape // nil for none; shapes are read when they are wanted: a large document has very many
	form             bool          // the body is a form
	reply            func() *shape // of what comes back when it is done; nil for nothing
	refusal          func() *shape // of what comes back when it is refused
	headers          []string
	missing          bool       // it answers 404 for what is not there
	security         [][]string // alternatives, each of schemes that go together; empty for none
	scopes           []string
}

// A parameter is one of an operation's.
type parameter struct {
	name, in string // in is "path", "query" or "header"
	required bool
	words    string
	shape    *shape
}

// A scheme is a way to show a token.
type scheme struct {
	name, kind string // kind is "bearer", "basic", "header", "query" or "oauth"
	in         string // the name of the header or parameter
	words      string
	scopes     []scopeOf
}

// scopeOf is a scope, and what the document says of it.
type scopeOf struct{ name, words string }

var methods = []string{"get", "post", "put", "patch", "delete"}

// read reads a document. from is the URL from which it came; empty for a file.
func read(text []byte, from string) (*document, error) {
	root, err := decode(text)
	if err != nil {
		return nil, err
	}
	d := &document{root: root, swagger: textOf(root["swagger"]) == "2.0"}
	if !d.swagger && !strings.HasPrefix(textOf(root["openapi"]), "3.") {
		return nil, ErrDocument
	}
	d.base = d.server(from)
	d.readSchemes()
	for _, path := range sortedKeys(asObject(root["paths"])) {
		item := asObject(d.resolve(asObject(root["paths"])[path]))
		for _, method := range methods {
			if o := asObject(item[method]); o != nil {
				d.operations = append(d.operations, d.operation(method, path, item, o))
			}
		}
	}
	return d, nil
}

// decode reads JSON, which keeps its digits, or else YAML.
func decode(text []byte) (object, error) {
	if len(text) > MaxBytes {
		return nil, fmt.Errorf("%w: larger than %d bytes", ErrDocument, MaxBytes)
	}
	text = bytes.TrimPrefix(bytes.TrimSpace(text), []byte("\xef\xbb\xbf"))
	var root object
	if bytes.HasPrefix(text, []byte("{")) {
		decoder := json.NewDecoder(bytes.NewReader(text))
		decoder.UseNumber()
		if err := decoder.Decode(&root); err != nil {
			return nil, fmt.Errorf("%w: %w", ErrDocument, err)
		}
		if _, err := decoder.Token(); !errors.Is(err, io.EOF) {
			return nil, fmt.Errorf("%w: there is text behind it", ErrDocument)
		}
		return root, nil
	}
	if err := yaml.Unmarshal(text, &root); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrDocument, err)
	}
	return root, nil
}

// server is where the API is; nil where the document does not say.
func (d *document) server(from string) *url.URL {
	text := ""
	if d.swagger {
		host, path := textOf(d.root["host"]), textOf(d.root["basePath"])
		if text = path; host != "" {
			text = "https://" + host + path
		}
	} else {
		for _, s := range asList(d.root["servers"]) {
			server := asObject(s)
			text = textOf(server["url"])
			for name, variable := range asObject(server["variables"]) {
				text = strings.ReplaceAll(text, "{"+name+"}", textOf(asObject(variable)["default"]))
			}
			if strings.HasPrefix(text, "https://") {
				break
			}
		}
	}
	at, err := url.Parse(text)
	if err != nil {
		return nil
	}
	if base, err := url.Parse(from); err == nil && from != "" {
		at = base.ResolveReference(at)
	}
	if at.Host == "" && at.Path == "" {
		return nil
	}
	at.Scheme, at.User, at.RawQuery, at.Fragment = "https", nil, "", ""
	at.Path = strings.TrimSuffix(at.Path, "/") + "/"
	return at
}

func (d *document) readSchemes() {
	list := asObject(asObject(d.root["components"])["securitySchemes"])
	if d.swagger {
		list = asObject(d.root["securityDefinitions"])
	}
	for _, name := range sortedKeys(list) {
		o := asObject(d.resolve(list[name]))
		s := scheme{name: name, words: textOf(o["description"]), in: textOf(o["name"])}
		switch kind := textOf(o["type"]); {
		case kind == "basic", kind == "http" && strings.EqualFold(textOf(o["scheme"]), "basic"):
			s.kind = "basic"
		case kind == "http" && strings.EqualFold(textOf(o["scheme"]), "bearer"):
			s.kind = "bearer"
		case kind == "apiKey" && textOf(o["in"]) == "header":
			s.kind = "header"
		case kind == "apiKey" && textOf(o["in"]) == "query":
			s.kind = "query"
		case kind == "oauth2":
			s.kind = "oauth"
			s.scopes = oauthScopes(o)
		default:
			continue
		}
		d.schemes = append(d.schemes, s)
	}
}

// oauthScopes lists the scopes of all flows of a scheme.
func oauthScopes(o object) (list []scopeOf) {
	add := func(scopes object) {
		for _, name := range sortedKeys(scopes) {
			if !slices.ContainsFunc(list, func(s scopeOf) bool { return s.name == name }) {
				list = append(list, scopeOf{name, strings.ToLower(textOf(scopes[name]))})
			}
		}
	}
	add(asObject(o["scopes"])) // Swagger's
	flows := asObject(o["flows"])
	for _, flow := range sortedKeys(flows) {
		add(asObject(asObject(flows[flow])["scopes"]))
	}
	return list
}

func (d *document) operation(method, path string, item, o object) *operation {
	op := &operation{id: textOf(o["operationId"]), method: strings.ToUpper(method), path: path,
		deprecated: o["deprecated"] == true, body: nothing, reply: nothing}
	words := []string{textOf(o["summary"]), textOf(o["description"])}
	for _, tag := range asList(o["tags"]) {
		words = append(words, textOf(tag))
	}
	op.words = strings.ToLower(strings.Join(words, " "))
	for _, p := range slices.Concat(asList(item["parameters"]), asList(o["parameters"])) {
		d.readParameter(op, asObject(d.resolve(p)))
	}
	if body := asObject(d.resolve(o["requestBody"])); body != nil {
		op.body, op.form = d.content(asObject(body["content"]))
	}
	d.readReplies(op, asObject(o["responses"]))
	security, own := o["security"], asList(o["security"])
	op.open = security != nil && len(own) == 0
	if security == nil {
		own = asList(d.root["security"])
	}
	for _, alternative := range own {
		names := asObject(alternative)
		op.security = append(op.security, sortedKeys(names))
		for _, name := range sortedKeys(names) {
			for _, scope := range asList(names[name]) {
				op.scopes = append(op.scopes, textOf(scope))
			}
		}
	}
	return op
}

func (d *document) readParameter(op *operation, p object) {
	in := textOf(p["in"])
	switch in {
	case "body":
		op.body = d.late(p["schema"])
		return
	case "formData":
		before := op.body()
		if !op.form {
			before, op.form = &shape{kind: "object"}, true
			op.body = func() *shape { return before }
		}
		before.add(textOf(p["name"]), d.shape(p, deepest), p["required"] == true)
		return
	}
	schema := p["schema"]
	if d.swagger {
		schema = p
	}
	op.parameters = append(op.parameters, parameter{name: textOf(p["name"]), in: in,
		required: p["required"] == true || in == "path", words: strings.ToLower(textOf(p["description"])),
		shape: d.shape(schema, deepest)})
}

// content is the shape of a body in the media type that we know best; form reports a form's.
func (d *document) content(types object) (s func() *shape, form bool) {
	for _, wanted := range []string{"application/json", "+json", "application/x-www-form-urlencoded", "*/*"} {
		for _, kind := range sortedKeys(types) {
			bare, _, _ := strings.Cut(kind, ";")
			if bare == wanted || strings.HasPrefix(wanted, "+") && strings.HasSuffix(bare, wanted) {
				return d.late(asObject(types[kind])["schema"]), strings.Contains(wanted, "form")
			}
		}
	}
	return nothing, false
}

func nothing() *shape { return nil }

// late reads a schema when it is wanted, once.
func (d *document) late(node any) func() *shape {
	return sync.OnceValue(func() *shape { return d.shape(node, deepest) })
}

// readReplies reads what comes back when an operation is done, and when it is refused.
func (d *document) readReplies(op *operation, replies object) {
	done := false
	for _, status := range sortedKeys(replies) {
		reply := asObject(d.resolve(replies[status]))
		s, _ := d.content(asObject(reply["content"]))
		if d.swagger {
			s = d.late(reply["schema"])
		}
		switch {
		case strings.HasPrefix(status, "2") && !done:
			op.reply, done = s, true
			op.headers = sortedKeys(asObject(reply["headers"]))
		case status == "404":
			op.missing = true
			fallthrough
		case strings.HasPrefix(status, "4"), status == "default":
			if op.refusal == nil {
				op.refusal = s
			}
		}
	}
}

// resolve follows a reference within the document ("#/…", RFC 6901), a few steps at most.
func (d *document) resolve(node any) any {
	for range 8 {
		ref := textOf(asObject(node)["$ref"])
		if ref == "" {
			return node
		}
		pointer, local := strings.CutPrefix(ref, "#/")
		if !local {
			return nil
		}
		node = d.root
		for part := range strings.SplitSeq(pointer, "/") {
			if plain, err := url.PathUnescape(part); err == nil {
				part = plain
			}
			node = asObject(node)[strings.NewReplacer("~1", "/", "~0", "~").Replace(part)]
		}
	}
	return nil
}

func asObject(node any) object {
	o, _ := node.(object)
	return o
}

func asList(node any) []any {
	list, _ := node.([]any)
	return list
}

func textOf(node any) string {
	switch v := node.(type) {
	case string:
		return v
	case nil:
		return ""
	case json.Number, bool, int, float64:
		return fmt.Sprint(v)
	}
	return ""
}

func sortedKeys(o object) []string {
	keys := make([]string, 0, len(o))
	for key := range o {
		keys = append(keys, key)
	}
	slices.Sort(keys)
	return keys
}
