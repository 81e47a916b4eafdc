package describe_test

import (
	"reflect"
	"regexp"
	"strings"
	"testing"

	"anchorage.example/unicrux/core/describe"
)

// TestWrongTypes: whatever a word of the language has for a value of another type, what is said of it names no type of
// the program.
func TestWrongTypes(t *testing.T) {
	t.Parallel()
	values := []string{"1", "1.5", "'x'", "true", "[1]", "['x']", "[[1]]", "{ x = 1 }", "[{ x = 1 }]", "2026-11-30"}
	ofProgram := regexp.MustCompile(`cannot |describe\.|\[\]|struct|toml:`)
	seen := 0
	var walk func(at reflect.Type, place []string)
	walk = func(at reflect.Type, place []string) {
		for at.Kind() == reflect.Pointer {
			at = at.Elem()
		}
		if len(place) > 0 && len(place) < 6 {
			for _, value := range values {
				line := strings.Join(place, ".") + " = " + value
				if _, err := describe.Parse([]byte(line)); err == nil || ofProgram.MatchString(err.Error()) {
					t.Errorf("%s: %v", line, err)
				}
				seen++
			}
		}
		switch {
		case at.Kind() == reflect.Map && len(place) < 6:
			walk(at.Elem(), append(place[:len(place):len(place)], "x"))
		case at.Kind() == reflect.Struct:
			for _, field := range reflect.VisibleFields(at) {
				if word := field.Tag.Get("toml"); word != "" && word != "-" && len(place) < 6 {
					walk(field.Type, append(place[:len(place):len(place)], word))
				}
			}
		}
	}
	walk(reflect.TypeFor[describe.Description](), nil)
	if seen < 500 {
		t.Errorf("only %d were tried", seen)
	}
}
