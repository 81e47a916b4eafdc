package gitlink

import (
	"path/filepath"

	"anchorage.example/unicrux/core/regular"
)

// Line finds the line, counted from 1, on which an entry stands, because git tells the file
// alone. It is 0 where it cannot be told. git has read the file; this only looks where.
func (c *Config) Line(entry Entry) int {
	c.linesLock.Lock()
	defer c.linesLock.Unlock()
	lines, known := c.lines[entry.Origin]
	if !known {
		if c.lines == nil {
			c.lines = map[string]map[Entry]int{}
		}
		lines = c.linesIn(entry.Origin)
		c.lines[entry.Origin] = lines
	}
	return lines[entry]
}

// linesIn finds the lines of all entries of one file.
func (c *Config) linesIn(origin string) map[Entry]int {
	path := origin
	if !filepath.IsAbs(path) { // as git has it, from the folder that it was asked in
		path = filepath.Join(c.station.Dir(), path)
	}
	text, err := regular.Read(path, regular.Settings)
	if err != nil {
		return nil
	}
	at, ok := syntaxOf(text)
	if !ok {
		return nil
	}
	onLine := map[string][]int{}
	for _, v := range at.variables {
		onLine[v.key] = append(onLine[v.key], v.line)
	}
	read := map[string][]Entry{}
	for _, entry := range c.entries {
		if entry.Origin == origin {
			read[entry.Key] = append(read[entry.Key], entry)
		}
	}
	lines := map[Entry]int{}
	for key, entries := range read {
		if len(entries) != len(onLine[key]) { // a file that is read twice, say: better nothing than a wrong place
			continue
		}
		for i, entry := range entries {
			lines[entry] = onLine[key][i]
		}
	}
	return lines
}
