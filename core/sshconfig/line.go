package sshconfig

import (
	"errors"
	"strings"
)

// Limits for what is read; the client itself bounds only the depth.
const (
	maxFileBytes = 4 << 20 // a configuration of 10,000 blocks has about 1 MB
	maxDepth     = 16      // of Include, as in the client
	maxFiles     = 4096    // read for one resolution, so that globs cannot multiply without end
)

// The reasons why the client refuses a line; each is in a [Problem].
var (
	ErrNoArgument = errors.New("no argument after the keyword")
	ErrQuote      = errors.New("a quotation mark without its partner")
	ErrKeyword    = errors.New("no such keyword")
	ErrTooMany    = errors.New("more arguments than the keyword takes")
	ErrArgument   = errors.New("the keyword does not take this argument")
	ErrDepth      = errors.New("more than 16 Include lines inside one another")
	ErrMark       = errors.New("the file begins with a byte order mark, which ssh reads as a part of the keyword")
)

// isSpace tells what separates words. These are plain loops, because files of many thousand
// lines go through them.
func isSpace(c byte) bool { return c == ' ' || c == '\t' || c == '\r' || c == '\n' || c == '\f' }

func trimLeft(text string) string {
	for text != "" && isSpace(text[0]) {
		text = text[1:]
	}
	return text
}

func trimRight(text string) string {
	for text != "" && isSpace(text[len(text)-1]) {
		text = text[:len(text)-1]
	}
	return text
}

// A line is one line of a file, as the client splits it.
type line struct {
	raw     string // every byte of it, the line end included
	keyword string // in lower case; empty for a blank line or a comment
	rest    string // what stands after the keyword, unsplit
	args    []string
	err     error // why the client refuses it
}

// parseLine splits a line into keyword and arguments. The keyword may be followed by
// white space or one "="; arguments may be quoted; "#" begins a comment where an argument
// would begin.
func parseLine(raw string) line {
	l := line{raw: raw}
	text := trimRight(visible(raw))
	word, rest := nextWord(trimLeft(text))
	if word == "" || strings.HasPrefix(word, "#") {
		return l
	}
	l.keyword = strings.ToLower(word)
	l.rest = trimLeft(rest)
	if l.rest == "" {
		l.err = ErrNoArgument
		return l
	}
	l.args, l.err = splitArgs(l.rest)
	if l.err == nil && len(l.args) == 0 {
		l.err = ErrNoArgument
	}
	return l
}

// visible is what the client sees of a line: nothing behind a zero byte, where its texts end.
func visible(line string) string {
	text, _, cut := strings.Cut(line, "\x00")
	if cut {
		text += "\n"
	}
	return text
}

// nextWord takes a word from the front of text: up to white space or one "=", or a
// quoted stretch. It returns what follows with the separator dropped.
func nextWord(text string) (word, rest string) {
	if strings.HasPrefix(text, `"`) {
		end := strings.IndexByte(text[1:], '"')
		if end < 0 {
			return "", ""
		}
		word, rest = text[1:1+end], text[end+2:]
	} else {
		end := 0
		for end < len(text) && !isSpace(text[end]) && text[end] != '"' && text[end] != '=' {
			end++
		}
		word, rest = text[:end], text[end:]
	}
	rest = trimLeft(rest)
	if strings.HasPrefix(rest, "=") {
		rest = trimLeft(rest[1:])
	}
	return word, rest
}

// splitArgs splits the arguments of a line. Inside either kind of quotation mark white
// space counts; a backslash keeps a quotation mark, a backslash or a space from counting.
func splitArgs(text string) ([]string, error) {
	var args []string
	for i := 0; i < len(text); {
		switch {
		case text[i] == ' ' || text[i] == '\t':
			i++
		case text[i] == '#':
			return args, nil
		default:
			arg, next, err := oneArg(text, i)
			if err != nil {
				return nil, err
			}
			args, i = append(args, arg), next
		}
	}
	return args, nil
}

func oneArg(text string, i int) (arg string, next int, err error) {
	end := i
	for end < len(text) && text[end] != ' ' && text[end] != '\t' && text[end] != '"' && text[end] != '\'' &&
		text[end] != '\\' {
		end++
	}
	if end == len(text) || text[end] == ' ' || text[end] == '\t' { // nothing in it is quoted: most are so
		return text[i:end], end, nil
	}
	var b strings.Builder
	var quote byte
	for ; i < len(text); i++ {
		c := text[i]
		switch {
		case c == '\\' && i+1 < len(text) && escapable(text[i+1], quote):
			i++
			b.WriteByte(text[i])
		case quote == 0 && (c == ' ' || c == '\t'):
			return b.String(), i, nil
		case quote == 0 && (c == '"' || c == '\''):
			quote = c
		case quote != 0 && c == quote:
			quote = 0
		default:
			b.WriteByte(c)
		}
	}
	if quote != 0 {
		return "", i, ErrQuote
	}
	return b.String(), i, nil
}

func escapable(c, quote byte) bool {
	return c == '\'' || c == '"' || c == '\\' || (quote == 0 && c == ' ')
}

// quoteArg writes an argument so that splitArgs gives it back.
func quoteArg(arg string) string {
	if arg != "" && !strings.ContainsAny(arg, " \t\"'\\#=") {
		return arg
	}
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(arg) + `"`
}

// splitLines cuts text after each line end, so that the pieces joined give text again.
func splitLines(text string) []string {
	if text == "" {
		return nil
	}
	lines := strings.SplitAfter(text, "\n")
	if lines[len(lines)-1] == "" {
		lines = lines[:len(lines)-1]
	}
	return lines
}
