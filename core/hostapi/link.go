package hostapi

import "strings"

// nextLink is the address of the first link with the relation "next" in headers named Link ([8288], section 3
// and appendix B); empty for none.
func nextLink(headers []string) string {
	for _, header := range headers {
		for rest := header; ; {
			start := strings.IndexByte(rest, '<')
			if start < 0 || strings.Trim(rest[:start], " \t,") != "" {
				break
			}
			target, after, closed := strings.Cut(rest[start+1:], ">")
			if !closed {
				break
			}
			relation, left := linkRelation(after)
			if isNext(relation) {
				return target
			}
			rest = left
		}
	}
	return ""
}

// linkRelation reads the parameters of a link, of which the first "rel" counts, and returns what stands behind
// them.
func linkRelation(text string) (relation, rest string) {
	found := false
	for {
		text = strings.TrimLeft(text, " \t;")
		if text == "" || text[0] == ',' {
			return relation, strings.TrimPrefix(text, ",")
		}
		end := strings.IndexAny(text, " \t=;,")
		if end < 0 {
			return relation, ""
		}
		name, value := text[:end], ""
		text = strings.TrimLeft(text[end:], " \t")
		if strings.HasPrefix(text, "=") {
			value, text = linkValue(strings.TrimLeft(text[1:], " \t"))
		}
		if strings.EqualFold(name, "rel") && !found {
			relation, found = value, true
		}
	}
}

// linkValue reads a word, or what stands between quotation marks, and returns what stands behind it.
func linkValue(text string) (value, rest string) {
	if !strings.HasPrefix(text, `"`) {
		end := strings.IndexAny(text, " \t;,")
		if end < 0 {
			end = len(text)
		}
		return text[:end], text[end:]
	}
	var b strings.Builder
	for i := 1; i < len(text); i++ {
		switch text[i] {
		case '"':
			return b.String(), text[i+1:]
		case '\\':
			if i++; i == len(text) {
				return b.String(), ""
			}
		}
		b.WriteByte(text[i])
	}
	return b.String(), ""
}

// isNext tells whether "next" is among relations, which have spaces between them.
func isNext(relations string) bool {
	for _, relation := range strings.Fields(relations) {
		if strings.EqualFold(relation, "next") {
			return true
		}
	}
	return false
}
