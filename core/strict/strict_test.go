package strict

import (
	"errors"
	"testing"

	"github.com/pelletier/go-toml/v2"
)

type table struct {
	Name  string         `toml:"name"`
	List  []string       `toml:"list"`
	Day   toml.LocalDate `toml:"day"`
	Count int            `toml:"count"`
	Inner struct {
		Deep struct {
			Word string `toml:"word"`
		} `toml:"deep"`
	} `toml:"inner"`
	Many []struct {
		Path string `toml:"path"`
	} `toml:"many"`
	Any map[string]struct {
		Use string `toml:"use"`
	} `toml:"any"`
}

// TestDecode: an error has its line, its place, and the word that was perhaps meant among those of the same table.
func TestDecode(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		"name = \"a\"\n[inner.deep]\nword = \"b\"\n[[many]]\npath = \"c\"\n": "",
		"\nnam = 1\n":                  "line 2: nam: a word that the language does not know; \"name\" was perhaps meant",
		"[inner.deep]\nwrd = 1\n":      "line 2: inner.deep.wrd: a word that the language does not know; \"word\" was perhaps meant",
		"[inner]\nzzzzzzz = 1\n":       "line 2: inner.zzzzzzz: a word that the language does not know; there are deep",
		"[[many]]\npth = 1\n":          "line 2: many.pth: a word that the language does not know; \"path\" was perhaps meant",
		"[any.one]\nusee = 1\n":        "line 2: any.one.usee: a word that the language does not know; \"use\" was perhaps meant",
		"name = 'a'\nname = 'b'\n":     "line 2: name: key name is already defined",
		"count = \"many\"\n":           "line 1: count: it must be a whole number",
		"name = 1\n":                   "line 1: name: it must be a text in quotes",
		"name = [1]\n":                 "line 1: name: it must be a text in quotes",
		"[name]\n":                     "line 1: name: it must be a text in quotes",
		"list = 'a'\n":                 "line 1: list: it must be a list of texts",
		"list = [true]\n":              "line 1: list: it must be a list of texts",
		"inner = 1.5\n":                "line 1: inner: it must be a table",
		"many = 'a'\n":                 "line 1: many: it must be a list of tables",
		"any = 2026-11-30\n":           "line 1: any: it must be a table",
		"day = 2026-11-30T07:32:00Z\n": "line 1: day: it must be a day such as 2027-03-31",
		"day = 2026-11-31\n":           "line 1: day: impossible date",
		"[inner\n":                     "line 1: expected ']' to close table name",
	} {
		err := Decode([]byte(text), &table{})
		var wrong *Error
		if err != nil && !errors.As(err, &wrong) {
			t.Errorf("%q: %T", text, err)
		}
		if got := message(err); got != want {
			t.Errorf("%q: %q, want %q", text, got, want)
		}
	}
}

func message(err error) string {
	if err == nil {
		return ""
	}
	return err.Error()
}

// TestLineOf: a place has the line where it is written, and one that is not written that of what it would stand in.
func TestLineOf(t *testing.T) {
	t.Parallel()
	const text = "a = 1\n\n[b]\nc = { d = 2 }\n[[e]]\nf = 1\n[[e]]\n\"g h\" = 2\n"
	for place, want := range map[string]int{"a": 1, "b": 3, "b.c": 4, "b.c.d": 4, "b.c.x": 4, "b.x": 3, "e[0]": 5,
		"e[0].f": 6, "e[1]": 7, "e[1].g h": 8, "e[1].f": 7, "z": 0, "": 0} {
		if got := LineOf([]byte(text), place); got != want {
			t.Errorf("%s: line %d, want %d", place, got, want)
		}
	}
}
