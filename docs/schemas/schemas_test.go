package schemas

import (
	"bytes"
	"encoding/json"
	"flag"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"

	"github.com/invopop/jsonschema"

	"anchorage.example/unicrux/render/document"
)

var update = flag.Bool("update", false, "write the schemas anew from the types")

// absolutePath is how a path looks: on Unix, with a drive letter, or of a pipe on Windows.
const absolutePath = `^(/|[A-Za-z]:[\\/]|\\\\)`

// TestSchemas holds the schemas to the types that are printed.
func TestSchemas(t *testing.T) {
	reflector := &jsonschema.Reflector{Anonymous: true, ExpandedStruct: true, AllowAdditionalProperties: true,
		CommentMap: comments(t), Mapper: special}
	for name, empty := range document.All() {
		made := written(t, reflector.Reflect(empty), name)
		file := name + ".json"
		if *update {
			if err := os.WriteFile(file, made, 0o644); err != nil {
				t.Fatal(err)
			}
			continue
		}
		if kept, found := Of(name); !found || kept != string(made) {
			t.Errorf("%s is not what the types say: go test ./docs/schemas -update", file)
		}
	}
	for _, name := range Names() {
		if _, found := document.All()[name]; !found {
			t.Errorf("%s.json is the schema of no document", name)
		}
	}
}

// special is the schema of types that are more than what they are made of.
func special(t reflect.Type) *jsonschema.Schema {
	if t == reflect.TypeFor[document.Path]() {
		return &jsonschema.Schema{Type: "string", Pattern: absolutePath}
	}
	return nil
}

// written is a schema as it is kept: with the document's own name in it, and a title.
func written(t *testing.T, schema *jsonschema.Schema, name string) []byte {
	t.Helper()
	schema.Title = document.Schema(name)
	for _, s := range append(slices.Collect(definitions(schema)), schema) {
		field, found := s.Properties.Get("schema")
		if !found {
			continue
		}
		field.Const = document.Schema(name)
		if s != schema && name == "ready" { // it has the document of check in it
			field.Const = document.Schema("check")
		}
	}
	var b bytes.Buffer
	encoder := json.NewEncoder(&b)
	encoder.SetEscapeHTML(false)
	encoder.SetIndent("", "  ")
	if err := encoder.Encode(schema); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func definitions(schema *jsonschema.Schema) func(func(*jsonschema.Schema) bool) {
	return func(yield func(*jsonschema.Schema) bool) {
		for _, s := range schema.Definitions {
			if s.Properties != nil && !yield(s) {
				return
			}
		}
	}
}

// comments are the doc comments of the types and fields of package document, as sentences without the name.
func comments(t *testing.T) map[string]string {
	t.Helper()
	found, path := map[string]string{}, reflect.TypeFor[document.Check]().PkgPath()
	files, err := filepath.Glob(filepath.Join("..", "..", "render", "document", "*.go"))
	if err != nil || len(files) == 0 {
		t.Fatal(files, err)
	}
	for _, file := range files {
		parsed, err := parser.ParseFile(token.NewFileSet(), file, nil, parser.ParseComments)
		if err != nil {
			t.Fatal(err)
		}
		for _, declared := range parsed.Decls {
			general, ok := declared.(*ast.GenDecl)
			if !ok || general.Tok != token.TYPE {
				continue
			}
			spec := general.Specs[0].(*ast.TypeSpec)
			name := path + "." + spec.Name.Name
			found[name] = withoutSubject(oneLine(general.Doc.Text()))
			fields, ok := spec.Type.(*ast.StructType)
			if !ok {
				continue
			}
			for _, field := range fields.Fields.List {
				if len(field.Names) == 1 {
					found[name+"."+field.Names[0].Name] = described(field)
				}
			}
		}
	}
	return found
}

// described is the comment of a field, which begins with its name in JSON.
func described(field *ast.Field) string {
	text := oneLine(field.Doc.Text())
	name := strings.Split(field.Tag.Value, `"`)[1]
	if rest, found := strings.CutPrefix(text, field.Names[0].Name+" "); found {
		return name + " " + rest
	}
	return text
}

// withoutSubject leaves of “A Check is the way…” the way.
func withoutSubject(text string) string {
	for _, verb := range []string{" is ", " are ", " "} {
		subject, rest, found := strings.Cut(text, verb)
		if found && len(strings.Fields(subject)) <= 2 && (verb != " " || !strings.HasPrefix(text, "A")) {
			return strings.ToUpper(rest[:1]) + rest[1:]
		}
	}
	_, rest, _ := strings.Cut(text, " ")
	_, rest, _ = strings.Cut(rest, " ")
	return strings.ToUpper(rest[:1]) + rest[1:]
}

func oneLine(comment string) string { return strings.Join(strings.Fields(comment), " ") }

// TestOneNameOneType holds every field to one type over all documents.
func TestOneNameOneType(t *testing.T) {
	types, where := map[string]string{}, map[string]string{}
	for name, empty := range document.All() {
		each(reflect.TypeOf(empty), func(field reflect.StructField) {
			key, is := jsonName(field), kind(field.Type)
			if before := types[key]; before != "" && before != is {
				t.Errorf("%s is %s in %s and %s in %s", key, before, where[key], is, name)
			}
			types[key], where[key] = is, name
			_, options, _ := strings.Cut(field.Tag.Get("json"), ",")
			nullable := strings.Contains(field.Tag.Get("jsonschema"), "nullable")
			if options != "" || nullable != (field.Type.Kind() == reflect.Pointer) {
				t.Errorf("%s of %s: what may be unknown is a pointer and nullable, and nothing is left out", key, name)
			}
		})
	}
	if len(types) < 150 {
		t.Errorf("%d fields were looked at", len(types))
	}
}

func jsonName(field reflect.StructField) string {
	name, _, _ := strings.Cut(field.Tag.Get("json"), ",")
	return name
}

// kind is the type of a field in JSON, whether or not it may be null.
func kind(t reflect.Type) string {
	switch t.Kind() {
	case reflect.Pointer:
		return kind(t.Elem())
	case reflect.Slice:
		return "a list of " + kind(t.Elem())
	case reflect.Struct:
		if t.PkgPath() == "time" {
			return "string"
		}
		return "an object"
	case reflect.Float64, reflect.Int:
		return "a number"
	}
	return t.Kind().String()
}

// each calls visit with every field of a type and of the types in it.
func each(t reflect.Type, visit func(reflect.StructField)) {
	switch t.Kind() {
	case reflect.Pointer, reflect.Slice:
		each(t.Elem(), visit)
	case reflect.Struct:
		if t.PkgPath() == "time" {
			return
		}
		for i := range t.NumField() {
			field := t.Field(i)
			if !field.Anonymous {
				visit(field)
			}
			each(field.Type, visit)
		}
	}
}
