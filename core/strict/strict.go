// Package strict reads TOML (toml.io, v1.0.0) that people write: a word that nobody knows is an error, and every error
// says where and what was perhaps meant.
package strict

import (
	"bytes"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"
	"github.com/pelletier/go-toml/v2/unstable"

	"anchorage.example/unicrux/core/suggest"
)

// An Error says what is wrong with a file, where, and what was perhaps meant.
type Error struct {
	File    string // empty where it is not known
	Line    int    // counted from 1; 0 when it concerns the whole
	Place   string // such as "operations.add-key.path"
	Message string
}

func (e *Error) Error() string {
	var where []string
	if e.File != "" {
		where = append(where, e.File)
	}
	if e.Line > 0 {
		where = append(where, fmt.Sprintf("line %d", e.Line))
	}
	if e.Place != "" {
		where = append(where, e.Place)
	}
	return strings.Join(append(where, e.Message), ": ")
}

// Decode reads text into a struct. Every failure is an *[Error].
func Decode(text []byte, into any) error {
	decoder := toml.NewDecoder(bytes.NewReader(text))
	decoder.DisallowUnknownFields()
	if err := decoder.Decode(into); err != nil {
		return asError(err, reflect.TypeOf(into).Elem())
	}
	return nil
}

func asError(err error, root reflect.Type) error {
	var strict *toml.StrictMissingError
	if errors.As(err, &strict) && len(strict.Errors) > 0 {
		first := strict.Errors[0]
		line, _ := first.Position()
		key := first.Key()
		return &Error{Line: line, Place: strings.Join(key, "."),
			Message: "a word that the language does not know" + Meant(key[len(key)-1], wordsAt(root, key[:len(key)-1]))}
	}
	var decode *toml.DecodeError
	if errors.As(err, &decode) {
		line, _ := decode.Position()
		return &Error{Line: line, Place: strings.Join(decode.Key(), "."),
			Message: said(decode, root)}
	}
	return &Error{Message: "not TOML"}
}

// said is what is wrong with a value.
func said(wrong *toml.DecodeError, root reflect.Type) string {
	text := strings.TrimPrefix(wrong.Error(), "toml: ")
	at := typeAt(root, wrong.Key())
	if at != nil && (strings.HasPrefix(text, "cannot decode ") || strings.HasPrefix(text, "cannot store ")) {
		return "it must be " + belongs(at)
	}
	return text
}

// belongs says what a value of a type must be. The library says it in Go's words.
func belongs(at reflect.Type) string {
	switch kind := at.Kind(); {
	case at == reflect.TypeFor[toml.LocalDate]():
		return "a day such as 2027-03-31"
	case kind == reflect.Pointer:
		return belongs(at.Elem())
	case kind == reflect.Slice && at.Elem().Kind() == reflect.String:
		return "a list of texts"
	case kind == reflect.Slice:
		return "a list of tables"
	case kind == reflect.String:
		return "a text in quotes"
	case kind == reflect.Bool:
		return "true or false"
	case kind == reflect.Int:
		return "a whole number"
	}
	return "a table"
}

// typeAt is the type of what is at a place, from that of the whole; nil where nothing is.
func typeAt(at reflect.Type, key []string) reflect.Type {
	for _, word := range key {
		for at.Kind() == reflect.Slice || at.Kind() == reflect.Pointer {
			at = at.Elem()
		}
		switch at.Kind() {
		case reflect.Map:
			at = at.Elem()
		case reflect.Struct:
			field, found := fieldOf(at, word)
			if !found {
				return nil
			}
			at = field
		default:
			return nil
		}
	}
	return at
}

// wordsAt lists the words that there are in a table, from the type of the whole.
func wordsAt(at reflect.Type, key []string) []string {
	at = typeAt(at, key)
	for at != nil && (at.Kind() == reflect.Slice || at.Kind() == reflect.Pointer) {
		at = at.Elem()
	}
	if at == nil || at.Kind() != reflect.Struct {
		return nil
	}
	var words []string
	for _, field := range reflect.VisibleFields(at) {
		if tag := field.Tag.Get("toml"); tag != "" && tag != "-" {
			words = append(words, tag)
		}
	}
	return words
}

func fieldOf(at reflect.Type, word string) (reflect.Type, bool) {
	for _, field := range reflect.VisibleFields(at) {
		if field.Tag.Get("toml") == word {
			return field.Type, true
		}
	}
	return nil, false
}

// Meant says which known word was perhaps meant, or which there are.
func Meant(word string, words []string) string {
	best, least := "", max(2, len(word)/3)+1
	for _, candidate := range words {
		if d := suggest.Distance(strings.ToLower(word), candidate, least); d < least {
			best, least = candidate, d
		}
	}
	switch {
	case best != "":
		return fmt.Sprintf("; %q was perhaps meant", best)
	case len(words) > 0:
		return "; there are " + strings.Join(slices.Sorted(slices.Values(words)), ", ")
	}
	return ""
}

// LineOf finds the line of a place in a file, such as "operations.add-key.path", or of what it stands in; 0 for none.
func LineOf(text []byte, place string) int {
	lines := map[string]int{}
	var parser unstable.Parser
	parser.Reset(text)
	table, tables := "", map[string]int{}
	for parser.NextExpression() {
		node := parser.Expression()
		name, line := keyOf(&parser, node)
		switch node.Kind {
		case unstable.Table:
			table = name
		case unstable.ArrayTable:
			table = fmt.Sprintf("%s[%d]", name, tables[name])
			tables[name]++
		case unstable.KeyValue:
			noteLines(&parser, node, table, lines)
			continue
		}
		lines[table] = line
	}
	for place != "" {
		if line, found := lines[place]; found {
			return line
		}
		place = place[:max(strings.LastIndexAny(place, ".["), 0)]
	}
	return 0
}

func noteLines(parser *unstable.Parser, node *unstable.Node, table string, lines map[string]int) {
	name, line := keyOf(parser, node)
	place := strings.TrimPrefix(table+"."+name, ".")
	lines[place] = line
	if value := node.Value(); value.Kind == unstable.InlineTable {
		for it := value.Children(); it.Next(); {
			noteLines(parser, it.Node(), place, lines)
		}
	}
}

func keyOf(parser *unstable.Parser, node *unstable.Node) (name string, line int) {
	var words []string
	for it := node.Key(); it.Next(); {
		words = append(words, string(it.Node().Data))
		if line == 0 {
			line = parser.Shape(it.Node().Raw).Start.Line
		}
	}
	return strings.Join(words, "."), line
}
