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

// skim takes the keyword off a line and returns what stands behind it; words is 0 for a line
// with anything but plain words in it.
func skim(raw string) (keyword, rest string, words int) {
	end := len(raw)
	for end > 0 && isSpace(raw[end-1]) {
		end--
	}
	i := 0
	for i < end && isSpace(raw[i]) {
		i++
	}
	begin := i
	for i < end && (raw[i]|0x20 >= 'a' && raw[i]|0x20 <= 'z' || raw[i] >= '0' && raw[i] <= '9') {
		i++
	}
	keyword = raw[begin:i]
	if i == begin || i == end || (!isSpace(raw[i]) && raw[i] != '=') {
		return "", "", 0
	}
	for i < end && isSpace(raw[i]) {
		i++
	}
	if i < end && raw[i] == '=' {
		for i++; i < end && isSpace(raw[i]); i++ {
		}
	}
	rest = raw[i:end]
	between := true
	for j := 0; j < len(rest); j++ {
		switch rest[j] {
		case ' ', '\t':
			between = true
			continue
		case '"', '\'', '\\', '#', '=', '\r', '\f':
			return "", "", 0
		}
		if between {
			between, words = false, words+1
		}
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
