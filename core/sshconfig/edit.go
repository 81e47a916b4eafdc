package sshconfig

import (
	"slices"
	"strings"
)

// indent stands before the lines inside a block of ours.
const indent = "    "

// A Setting is one line to be put into a block.
type Setting struct {
	Keyword string // as it is to be written
	Args    []string
	Line    string // in place of Args: the rest of the line as it is, for keywords that take a command
}

// takesOut tells that a setting is to be taken out.
func (s Setting) takesOut() bool { return len(s.Args) == 0 && s.Line == "" }

// EnsureInclude puts an Include of path at the top of text, once. There it stands outside
// every block, so it always counts, and before every other value, so it wins. The error is
// [ErrUnwritable].
func EnsureInclude(text []byte, path string, comment string) ([]byte, error) {
	wanted, err := includeLine(path)
	if err != nil {
		return nil, err
	}
	for _, raw := range splitLines(string(text)) {
		l := parseLine(raw)
		if l.keyword == "host" || l.keyword == "match" {
			break // an Include inside a block counts for that block alone
		}
		if l.keyword == "include" && slices.Contains(l.args, path) {
			return text, nil
		}
	}
	end := lineEnd(string(text))
	added := "# " + comment + end + wanted + end
	if len(text) > 0 {
		added += end
	}
	return append([]byte(added), text...), nil
}

// DropInclude takes out what [EnsureInclude] put in, wherever it is now.
func DropInclude(text []byte, path, comment string) []byte {
	lines := splitLines(string(text))
	for i := 0; i < len(lines); i++ {
		l := parseLine(lines[i])
		if l.keyword == "host" || l.keyword == "match" {
			break
		}
		if l.keyword != "include" || len(l.args) != 1 || l.args[0] != path {
			continue
		}
		from, to := i, i+1
		if from > 0 && strings.TrimSpace(lines[from-1]) == "# "+comment {
			from--
		}
		if to < len(lines) && strings.TrimSpace(lines[to]) == "" {
			to++
		}
		lines = slices.Delete(lines, from, to)
		i = from - 1
	}
	return []byte(strings.Join(lines, ""))
}

// Says tells whether a text sets anything.
func Says(text []byte) bool {
	return slices.ContainsFunc(splitLines(string(text)), func(raw string) bool { return parseLine(raw).keyword != "" })
}

// SetInBlock changes settings in the block whose Host line is exactly names, which is
// added at the end of text when it is not there. A Setting without arguments is taken
// out. All other lines stay as they are, byte for byte. The error is [ErrUnwritable].
func SetInBlock(text []byte, names []string, settings []Setting) ([]byte, error) {
	lines := splitLines(string(text))
	end := lineEnd(string(text))
	from, to := findBlock(lines, names)
	if from < 0 {
		head, err := hostLine(names)
		if err != nil {
			return nil, err
		}
		if n := len(lines); n > 0 {
			if !strings.HasSuffix(lines[n-1], "\n") {
				lines[n-1] += end
			}
			lines = append(lines, end)
		}
		lines = append(lines, head+end)
		from, to = len(lines)-1, len(lines)
	}
	block := lines[from:to:to]
	for _, setting := range settings {
		var err error
		if block, err = setInLines(block, setting, end); err != nil {
			return nil, err
		}
	}
	return []byte(strings.Join(slices.Concat(lines[:from], block, lines[to:]), "")), nil
}

// DropBlock takes out the block whose Host line is exactly names.
func DropBlock(text []byte, names []string) []byte {
	lines := splitLines(string(text))
	from, to := findBlock(lines, names)
	if from < 0 {
		return text
	}
	for to < len(lines) && strings.TrimSpace(lines[to]) == "" { // the blank line that set it apart
		to++
	}
	return []byte(strings.Join(slices.Delete(lines, from, to), ""))
}

// Blocks lists the arguments of the Host lines, in order.
func Blocks(text []byte) [][]string {
	var blocks [][]string
	for _, raw := range splitLines(string(text)) {
		if l := parseLine(raw); l.keyword == "host" && l.err == nil {
			blocks = append(blocks, l.args)
		}
	}
	return blocks
}

// SetMatchExec makes ssh run a command before it connects to a host: by a Match line at the
// end of text, with nothing below it. An empty command takes the line out. The command
// holds no quotation mark ("), which the client could not read. The error is [ErrUnwritable].
func SetMatchExec(text []byte, name, command string) ([]byte, error) {
	lines := splitLines(string(text))
	end := lineEnd(string(text))
	wanted, err := matchExec(name, command)
	if err != nil {
		return nil, err
	}
	wanted += end
	kept := lines[:0:0]
	for _, raw := range lines {
		l := parseLine(raw)
		if l.keyword == "match" && len(l.args) == 4 &&
			slices.Equal(l.args[:3], []string{"originalhost", name, "exec"}) {
			if raw == wanted {
				return text, nil
			}
			if n := len(kept); n > 0 && strings.TrimSpace(kept[n-1]) == "" {
				kept = kept[:n-1] // the blank line that set it apart
			}
			continue
		}
		kept = append(kept, raw)
	}
	if command == "" {
		return []byte(strings.Join(kept, "")), nil
	}
	if n := len(kept); n > 0 {
		if !strings.HasSuffix(kept[n-1], "\n") {
			kept[n-1] += end
		}
		kept = append(kept, end)
	}
	return []byte(strings.Join(append(kept, wanted), "")), nil
}

// findBlock returns the lines of a block, blank ones at its end left out; from is -1
// when there is none.
func findBlock(lines, names []string) (from, to int) {
	from = -1
	for i, raw := range lines {
		l := parseLine(raw)
		if l.keyword != "host" && l.keyword != "match" {
			continue
		}
		if from >= 0 {
			return from, blockEnd(lines, from, i)
		}
		if l.keyword == "host" && slices.Equal(l.args, names) {
			from = i
		}
	}
	return from, blockEnd(lines, from, len(lines))
}

func blockEnd(lines []string, from, to int) int {
	for from >= 0 && to > from+1 && strings.TrimSpace(lines[to-1]) == "" {
		to--
	}
	return to
}

// setInLines puts one setting into the lines of a block: in place of the first line with
// its keyword, with all others of that keyword taken out, or at the end.
func setInLines(block []string, setting Setting, end string) ([]string, error) {
	keyword := strings.ToLower(setting.Keyword)
	result := make([]string, 0, len(block)+1)
	placed := setting.takesOut()
	wanted, err := "", error(nil)
	if !placed {
		if wanted, err = setting.text(); err != nil {
			return nil, err
		}
	}
	for _, raw := range block {
		l := parseLine(raw)
		if l.keyword != keyword {
			result = append(result, raw)
			continue
		}
		if !placed {
			placed = true
			// as it should be: not even the spaces change
			if slices.Equal(l.args, setting.Args) || (setting.Line != "" && l.rest == setting.Line) {
				result = append(result, raw)
			} else {
				result = append(result, indent+wanted+end)
			}
		}
	}
	if !placed {
		if n := len(result); n > 0 && !strings.HasSuffix(result[n-1], "\n") {
			result[n-1] += end
		}
		result = append(result, indent+wanted+end)
	}
	return result, nil
}

// lineEnd is the line end that text uses.
func lineEnd(text string) string {
	if i := strings.IndexByte(text, '\n'); i > 0 && text[i-1] == '\r' {
		return "\r\n"
	}
	return "\n"
}
