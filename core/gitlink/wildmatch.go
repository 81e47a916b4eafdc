package gitlink

import (
	"fmt"
	"regexp"
	"strings"
	"unicode/utf8"
)

// wildMatch matches a text with a pattern of git's in which "*" stays within a part of a path and "**" does
// not ("PATTERN FORMAT" in gitignore(5), wildmatch.c in git's sources with WM_PATHNAME).
func wildMatch(pattern, text string, anyCase bool) bool {
	expression, err := regexp.Compile(wildExpression(pattern, anyCase))
	return err == nil && expression.MatchString(text)
}

func wildExpression(pattern string, anyCase bool) string {
	var b strings.Builder
	b.WriteString(`(?s`)
	if anyCase {
		b.WriteString(`i`)
	}
	b.WriteString(`)\A`)
	for i := 0; i < len(pattern); {
		rest := pattern[i:]
		atStart := i == 0 || pattern[i-1] == '/'
		switch {
		case strings.HasPrefix(rest, "**") && atStart && strings.HasPrefix(strings.TrimLeft(rest, "*"), "/"):
			b.WriteString(`(?:.*/)?`)
			i = len(pattern) - len(strings.TrimLeft(rest, "*")) + 1
		case strings.HasPrefix(rest, "**") && atStart && strings.Trim(rest, "*") == "":
			b.WriteString(`.*`)
			i = len(pattern)
		case rest[0] == '*':
			b.WriteString(`[^/]*`)
			i = len(pattern) - len(strings.TrimLeft(rest, "*"))
		case rest[0] == '?':
			b.WriteString(`[^/]`)
			i++
		case rest[0] == '[':
			class, length := wildClass(rest)
			b.WriteString(class)
			i += length
		default:
			if rest[0] == '\\' && len(rest) > 1 {
				i++
			}
			_, size := utf8.DecodeRuneInString(pattern[i:])
			b.WriteString(regexp.QuoteMeta(pattern[i : i+size]))
			i += size
		}
	}
	return b.String() + `\z`
}

// noCharacter is a class that matches nothing.
const noCharacter = `[^\x00-\x{10FFFF}]`

// wildClass turns a class of characters at the start of a pattern into one of an expression, and tells how
// long it is. One without an end matches nothing, and a slash is in none.
func wildClass(pattern string) (expression string, length int) {
	var b strings.Builder
	i := 1
	negated := i < len(pattern) && (pattern[i] == '!' || pattern[i] == '^')
	if negated {
		i++
	}
	for first := true; i < len(pattern); first = false {
		switch {
		case pattern[i] == ']' && !first:
			if negated {
				return `[^/` + b.String() + `]`, i + 1
			}
			return `[` + b.String() + `]`, i + 1
		case strings.HasPrefix(pattern[i:], "[:"):
			end := strings.Index(pattern[i:], ":]")
			if end < 0 {
				return noCharacter, len(pattern)
			}
			b.WriteString(pattern[i : i+end+2])
			i += end + 2
			continue
		case pattern[i] == '-' && !first && i+1 < len(pattern) && pattern[i+1] != ']':
			b.WriteByte('-')
			i++
			continue
		case pattern[i] == '\\' && i+1 < len(pattern):
			i++
		}
		c, size := utf8.DecodeRuneInString(pattern[i:])
		fmt.Fprintf(&b, `\x{%x}`, c)
		i += size
	}
	return noCharacter, len(pattern)
}
