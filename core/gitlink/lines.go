package gitlink

import (
	"os"
	"strings"

	"Unicrux/core/regular"
)

// maxConfigBytes bounds a file in which a line is looked for.
const maxConfigBytes = 4 << 20

// Line finds the line, counted from 1, on which an entry stands, because git tells the file
// alone. It is 0 where it cannot be told. git has read the file; this only looks where.
func (c *Config) Line(entry Entry) int {
	nth, same := 0, 0
	for _, other := range c.entries { // of entries with that key in that file, which is it?
		if other.Key == entry.Key && other.Origin == entry.Origin {
			if other == entry {
				nth = same
			}
			same++
		}
	}
	info, err := os.Stat(entry.Origin)
	if err != nil || info.Size() > maxConfigBytes {
		return 0
	}
	text, err := regular.Read(entry.Origin, regular.Settings)
	if err != nil {
		return 0
	}
	lines := keyLines(string(text), entry.Key)
	if len(lines) != same { // read otherwise than we look: better nothing than a wrong place
		return 0
	}
	return lines[nth]
}

// keyLines lists the lines on which a key is set ("Syntax" in git-config(1)).
func keyLines(text, key string) []int {
	var found []int
	section, number, continued := "", 0, false
	for line := range strings.Lines(text) {
		number++
		line = strings.TrimSpace(line)
		inside := continued
		continued = strings.HasSuffix(line, `\`)
		if inside || line == "" || line[0] == '#' || line[0] == ';' {
			continue
		}
		if line[0] == '[' {
			end := strings.LastIndexByte(line, ']')
			if end < 0 {
				continue
			}
			section, line = sectionName(line[1:end]), strings.TrimSpace(line[end+1:])
		}
		name := line
		if i := strings.IndexAny(line, "= \t#;"); i >= 0 {
			name = line[:i]
		}
		if name != "" && section+"."+strings.ToLower(name) == key {
			found = append(found, number)
		}
	}
	return found
}

// sectionName writes a section's head as git's keys have it: [http "https://x"] is http.https://x.
func sectionName(head string) string {
	name, rest, found := strings.Cut(head, `"`)
	name = strings.ToLower(strings.TrimSpace(name))
	if !found {
		return name
	}
	rest = strings.TrimSuffix(strings.TrimSpace(rest), `"`)
	return name + "." + strings.NewReplacer(`\\`, `\`, `\"`, `"`).Replace(rest)
}
