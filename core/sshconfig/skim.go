package sshconfig

import "strings"

// Most lines of a large file stand in blocks for other hosts. They need not be taken apart,
// only looked at closely enough to be sure that the client would not stop at them. What is
// not understood here is left to [parseLine].

// A manner says what is to be done with lines of a keyword.
type manner uint8

const (
	unseen  manner = iota // not looked up yet
	careful               // to be taken apart
	single                // may be passed over when it has one word
	plural                // may be passed over with several
	number                // may be passed over when it is a port
	host
)

// mannerOf tells how lines of a keyword, as written, are to be treated. Each spelling is
// looked up once.
func (s *Settings) mannerOf(written string) manner {
	if m := s.manners[written]; m != unseen {
		return m
	}
	keyword, m := strings.ToLower(written), single
	switch {
	case keyword == "":
		m = careful
	case keyword == "host":
		m = host
	case !known[keyword], regardless[keyword], keyword == "match", keyword == "include":
		m = careful
	case keyword == "port":
		m = number
	case several[keyword]:
		m = plural
	}
	if s.manners == nil {
		s.manners = map[string]manner{}
	}
	s.manners[written] = m
	return m
}

// What a byte is for skim: part of a word unless said otherwise.
const (
	blank    = 1 // separates words
	peculiar = 2 // not in a line of plain words
	ofName   = 4 // part of a keyword
)

// kinds is looked up for each byte of a large file.
var kinds = func() (table [256]uint8) {
	for _, c := range " \t\r\n\f" {
		table[c] = blank
	}
	for _, c := range `"'\#=` {
		table[c] = peculiar
	}
	for c := 'a'; c <= 'z'; c++ {
		table[c], table[c-'a'+'A'] = ofName, ofName
	}
	for c := '0'; c <= '9'; c++ {
		table[c] = ofName
	}
	return table
}()

// skim takes the keyword off a line and returns what stands behind it; words is 0 for a line
// with anything but plain words in it.
func skim(raw string) (keyword, rest string, words int) {
	end := len(raw)
	for end > 0 && kinds[raw[end-1]] == blank {
		end--
	}
	raw = raw[:end]
	i := 0
	for i < len(raw) && kinds[raw[i]] == blank {
		i++
	}
	begin := i
	for i < len(raw) && kinds[raw[i]] == ofName {
		i++
	}
	keyword = raw[begin:i]
	if i == begin || i == len(raw) || (kinds[raw[i]] != blank && raw[i] != '=') {
		return "", "", 0
	}
	for i < len(raw) && kinds[raw[i]] == blank {
		i++
	}
	if i < len(raw) && raw[i] == '=' {
		for i++; i < len(raw) && kinds[raw[i]] == blank; i++ {
		}
	}
	rest = raw[i:]
	before := uint8(blank)
	for j := 0; j < len(rest); j++ {
		kind := kinds[rest[j]]
		if kind == peculiar {
			return "", "", 0
		}
		if before == blank && kind != blank {
			words++
		}
		before = kind
	}
	return keyword, rest, words
}

// passesOver tells whether a line of a block that does not count can be passed over.
func (m manner) passesOver(rest string, words int) bool {
	switch m {
	case single:
		return words == 1
	case plural:
		return words > 0
	case number:
		return words == 1 && isPort(rest)
	}
	return false
}

// isPlain tells whether the argument of a Host line is a name and no pattern.
func isPlain(text string) bool {
	for i := 0; i < len(text); i++ {
		if c := text[i]; c == '*' || c == '?' || c == '!' || c == ',' {
			return false
		}
	}
	return true
}
