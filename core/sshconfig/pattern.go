package sshconfig

import "strings"

// matchPattern matches one pattern, in which "*" stands for any text and "?" for one
// character (PATTERNS in [CONF]). It works in bytes, as the client does, and in time
// proportional to the product of both lengths however many stars there are.
func matchPattern(text, pattern string) bool {
	t, p, star, mark := 0, 0, -1, 0
	for t < len(text) {
		switch {
		case p < len(pattern) && pattern[p] == '*':
			star, mark = p, t
			p++
		case p < len(pattern) && (pattern[p] == '?' || pattern[p] == text[t]):
			p++
			t++
		case star >= 0: // let the last star take one character more
			mark++
			p, t = star+1, mark
		default:
			return false
		}
	}
	return strings.Trim(pattern[p:], "*") == ""
}

// matchList matches a comma-separated list of patterns. A pattern with "!" before it
// that matches refuses the whole list (PATTERNS in [CONF]).
func matchList(text, list string) bool {
	matched := false
	for pattern := range strings.SplitSeq(list, ",") {
		pattern, negated := strings.CutPrefix(pattern, "!")
		if !matchPattern(text, pattern) {
			continue
		}
		if negated {
			return false
		}
		matched = true
	}
	return matched
}

// matchHost tells whether a Host line is for host.
func matchHost(host string, patterns []string) bool {
	matched := false
	for _, pattern := range patterns {
		pattern, negated := strings.CutPrefix(pattern, "!")
		if !matchPattern(host, pattern) {
			continue
		}
		if negated {
			return false
		}
		matched = true
	}
	return matched
}

// MatchPattern is the client's wildcard match, which known hosts files use as well.
func MatchPattern(text, pattern string) bool { return matchPattern(text, pattern) }
