package apply

import (
	"bytes"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"anchorage.example/unicrux/core/knownhosts"
	"anchorage.example/unicrux/core/sshconfig"
)

// The lines around ours in the machine's file of host keys.
const (
	blockBegin = "# Kept by Unicrux from here on (unicrux apply): what is edited in between is lost."
	blockEnd   = "# Kept by Unicrux up to here."
)

// hostKeys plans our lines in the machine's file of host keys: those that the descriptions publish, and those that the
// state trusts and distrusts.
func (p *planned) hostKeys(settled []settledHost) error {
	var lines []string
	for _, h := range settled {
		for _, key := range h.Description.StaticKeys() {
			lines = append(lines, knownhosts.Line(strings.Join(h.names(), ","), key))
		}
	}
	for _, t := range p.state.Trust {
		for _, key := range t.Keys {
			line := knownhosts.Line(strings.Join(t.Names, ","), key)
			if t.Authority {
				line = string(knownhosts.Authority) + " " + line
			}
			lines = append(lines, line)
		}
	}
	for _, d := range p.state.Distrust {
		// whatever the reason says, the line is none of our marks
		lines = append(lines, "# distrusted: "+d.Why, string(knownhosts.Revoked)+" "+knownhosts.Line("*", d.Key))
	}
	text := []byte(strings.Join(distinct(lines), ""))
	path := p.o.Places.hostKeys()
	if old, err := readOf(path); err == nil {
		if _, _, _, err := splitBlock(old); err != nil {
			return fmt.Errorf("%s: %w", path, err)
		}
	}
	p.files = append(p.files, file{part: Trust, path: path,
		summary: "Settle which keys of hosts are trusted by everybody.",
		compute: func(old []byte) ([]byte, error) { return withBlock(old, text) }})
	p.marks = append(p.marks, mark{Part: Trust, Path: path, SHA256: hashOf(text)})
	return nil
}

// distinct ends each line, and leaves out those that are there already.
func distinct(lines []string) []string {
	seen := map[string]bool{}
	var kept []string
	for _, line := range lines {
		if !seen[line] || strings.HasPrefix(line, "#") {
			seen[line] = true
			kept = append(kept, line+"\n")
		}
	}
	return kept
}

// names are those under which ssh looks the key of a host up: by the port and the address that it is led to (the
// client takes HostName for that).
func (h settledHost) names() []string {
	port, address := h.Description.Port(), ""
	for _, s := range h.all.SSH {
		switch {
		case len(s.Args) == 0:
		case s.Keyword == "Port":
			port, _ = strconv.Atoi(s.Args[0])
		case s.Keyword == "HostName":
			address = s.Args[0]
		}
	}
	names := []string{sshconfig.HostPort(strings.ToLower(h.Description.HostName()), port)}
	if address != "" {
		names = append(names, sshconfig.HostPort(address, port))
	}
	if other := h.Description.SSH.Other; other != 0 && other != port {
		names = append(names, sshconfig.HostPort(strings.ToLower(h.Description.HostName()), other))
	}
	return slices.Compact(names)
}

// withBlock puts our lines into a file in place of those that are there, else at its end; without lines ours go.
func withBlock(old, lines []byte) ([]byte, error) {
	before, _, behind, err := splitBlock(old)
	if err != nil {
		return nil, err
	}
	if len(lines) == 0 {
		if len(old) == 0 {
			return nil, nil
		}
		return slices.Concat(before, behind), nil
	}
	if len(before) > 0 && before[len(before)-1] != '\n' {
		before = append(bytes.Clone(before), '\n')
	}
	return slices.Concat(before, []byte(blockBegin+"\n"), lines, []byte(blockEnd+"\n"), behind), nil
}

// splitBlock divides a file into what is before our lines, ours without their marks, and what is behind them; a file
// without them is all before. The error is [ErrMarks].
func splitBlock(text []byte) (before, ours, behind []byte, err error) {
	begin, end, number := -1, -1, 0
	at := 0
	for raw := range bytes.Lines(text) {
		number++
		switch line := strings.TrimRight(string(raw), "\r\n"); {
		case line == blockBegin && begin < 0 && end < 0:
			begin, ours = at, text[at+len(raw):]
		case line == blockEnd && begin >= 0 && end < 0:
			ours, end = text[begin+len(blockBegin)+1:at], at+len(raw)
		case line == blockBegin || line == blockEnd:
			return nil, nil, nil, fmt.Errorf("line %d: %w: take the marks out, and apply again", number, ErrMarks)
		}
		at += len(raw)
	}
	switch {
	case begin < 0:
		return text, nil, nil, nil
	case end < 0:
		return nil, nil, nil, fmt.Errorf("%w: there is no line %q", ErrMarks, blockEnd)
	}
	return text[:begin], ours, text[end:], nil
}
