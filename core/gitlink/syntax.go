package gitlink

import (
	"bytes"
	"strings"
)

// A syntax is what the text of one of git's files sets, and where ("Syntax" in git-config(1)), so that everything
// else stays as the person wrote it.
type syntax struct {
	sections  []section
	variables []variable
}

// A section begins with its head in brackets and ends where the next one begins.
type section struct {
	name      string // as keys have it: credential.https://forge.tidewater.example
	from      int    // where its head begins
	end       int    // behind the last line on which it sets something, or behind that of its head
	variables int    // how many are set in it
	commented bool   // a comment is in it
}

// A variable is set in one place of a text.
type variable struct {
	key     string // as git lists it
	value   string // "true" for a variable without "="
	valued  bool   // there is a "="
	section int    // of the sections; -1 before all of them
	line    int    // counted from 1
	from    int    // where its name begins
	named   int    // behind its name
	to      int    // behind its value
	end     int    // behind the line end that ends it

	commented bool // a comment is behind it
}

// syntaxOf reads the text of one of git's files. ok is false for a text that git refuses.
func syntaxOf(text []byte) (s syntax, ok bool) {
	c := cursor{text: text, line: 1}
	if bytes.HasPrefix(text, []byte("\xef\xbb\xbf")) { // git skips the mark that some editors begin a file with
		c.at = 3
	}
	for c.at < len(text) {
		switch b := text[c.at]; {
		case c.atBreak() > 0:
			c.pass(c.atBreak())
		case isSpace(b):
			c.at++
		case b == '#' || b == ';':
			c.passLine()
			s.comment()
		case b == '[':
			from := c.at
			name, ok := c.sectionHead()
			if !ok {
				return syntax{}, false
			}
			s.sections = append(s.sections, section{name: name, from: from, end: c.lineEnd()})
		default:
			v, ok := c.variable()
			if !ok {
				return syntax{}, false
			}
			s.set(v)
		}
	}
	return s, true
}

func (s *syntax) comment() {
	if n := len(s.sections); n > 0 {
		s.sections[n-1].commented = true
	}
}

// set puts a variable into the last section. git lists those before any, too.
func (s *syntax) set(v variable) {
	if v.section = len(s.sections) - 1; v.section >= 0 {
		in := &s.sections[v.section]
		v.key = in.name + "." + v.key
		in.variables, in.end = in.variables+1, v.end
		in.commented = in.commented || v.commented
	}
	s.variables = append(s.variables, v)
}

// A cursor goes through a text.
type cursor struct {
	text     []byte
	at, line int
}

func isSpace(b byte) bool { return b == ' ' || b == '\t' || b == '\r' || b == '\n' }

func isNamePart(b byte) bool { return isLetter(b) || b >= '0' && b <= '9' || b == '-' }

func isLetter(b byte) bool { return b|0x20 >= 'a' && b|0x20 <= 'z' }

// atBreak is how long the line end is at which the cursor is, and 0 where it is at none.
func (c *cursor) atBreak() int {
	switch rest := c.text[c.at:]; {
	case bytes.HasPrefix(rest, []byte("\n")):
		return 1
	case bytes.HasPrefix(rest, []byte("\r\n")):
		return 2
	}
	return 0
}

// pass passes a line end.
func (c *cursor) pass(length int) { c.at, c.line = c.at+length, c.line+1 }

// passLine goes to the end of the line, and not beyond it.
func (c *cursor) passLine() {
	for c.at < len(c.text) && c.atBreak() == 0 {
		c.at++
	}
}

// lineEnd is behind the end of the line.
func (c *cursor) lineEnd() int {
	if i := bytes.IndexByte(c.text[c.at:], '\n'); i >= 0 {
		return c.at + i + 1
	}
	return len(c.text)
}

// sectionHead reads [name], [name.sub] or [name "sub"], and gives the name as keys have it.
func (c *cursor) sectionHead() (name string, ok bool) {
	c.at++ // the bracket
	from := c.at
	for c.at < len(c.text) && (isNamePart(c.text[c.at]) || c.text[c.at] == '.') {
		c.at++
	}
	name = strings.ToLower(string(c.text[from:c.at]))
	if c.at < len(c.text) && c.text[c.at] == ']' {
		c.at++
		return name, true
	}
	spaced := c.at
	for c.at < len(c.text) && c.atBreak() == 0 && isSpace(c.text[c.at]) {
		c.at++
	}
	if c.at == spaced || c.at == len(c.text) || c.text[c.at] != '"' {
		return "", false
	}
	c.at++
	sub, ok := c.subsection()
	return name + "." + sub, ok
}

// subsection reads what is between quotes, and the bracket behind them.
func (c *cursor) subsection() (string, bool) {
	var sub []byte
	for ; c.at < len(c.text) && c.atBreak() == 0; c.at++ {
		switch b := c.text[c.at]; {
		case b == '"':
			closed := c.at+1 < len(c.text) && c.text[c.at+1] == ']'
			c.at += 2
			return string(sub), closed
		case b == '\\':
			if c.at++; c.at == len(c.text) || c.atBreak() > 0 {
				return "", false
			}
		}
		sub = append(sub, c.text[c.at])
	}
	return "", false
}

// variable reads a name, with a value or without one, to the end of its last line.
func (c *cursor) variable() (v variable, ok bool) {
	if !isLetter(c.text[c.at]) {
		return v, false
	}
	v = variable{from: c.at, line: c.line, value: "true"}
	for c.at < len(c.text) && isNamePart(c.text[c.at]) {
		c.at++
	}
	v.key, v.named, v.to = strings.ToLower(string(c.text[v.from:c.at])), c.at, c.at
	for c.at < len(c.text) && (c.text[c.at] == ' ' || c.text[c.at] == '\t') {
		c.at++
	}
	if c.at < len(c.text) && c.atBreak() == 0 {
		if c.text[c.at] != '=' {
			return v, false
		}
		c.at++
		v.to, v.valued = c.at, true
		if !c.value(&v) {
			return v, false
		}
	}
	if c.at < len(c.text) {
		c.pass(c.atBreak())
	}
	v.end = c.at
	return v, true
}

// value reads a value to the end of its last line, and notes where it ends.
func (c *cursor) value(v *variable) (ok bool) {
	var text []byte
	quoted, spaces := false, 0
	defer func() { v.value, _, _ = strings.Cut(string(text), "\x00") }() // git goes by C's strings
	for c.at < len(c.text) {
		b := c.text[c.at]
		switch {
		case c.atBreak() > 0:
			return !quoted
		case isSpace(b) && !quoted:
			c.at++
			if len(text) > 0 {
				spaces++
			}
			continue
		case (b == '#' || b == ';') && !quoted:
			c.passLine()
			v.commented = true
			return true
		}
		for ; spaces > 0; spaces-- {
			text = append(text, ' ')
		}
		switch b {
		case '\\':
			if c.at++; c.at == len(c.text) {
				return !quoted // as if a line end came
			}
			if length := c.atBreak(); length > 0 {
				c.pass(length)
				v.to = c.at
				continue
			}
			i := strings.IndexByte(`tbn\"`, c.text[c.at])
			if i < 0 {
				return false
			}
			text = append(text, "\t\b\n\\\""[i])
		case '"':
			quoted = !quoted
		default:
			text = append(text, b)
		}
		c.at++
		v.to = c.at
	}
	return !quoted
}
