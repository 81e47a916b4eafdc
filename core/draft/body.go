package draft

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// wordsFor are the host's words for ours in a field, as a TOML table; empty where they are the same, or not known.
func wordsFor(ours, name string, s *shape) string {
	yes := s.kind == "boolean"
	switch {
	case ours == "access" && yes && name == "readonly":
		return "{ read = true, write = false }"
	case ours == "access" && yes &&
		slices.Contains([]string{"canpush", "canwrite", "writable", "writeaccess", "push", "write"}, name):
		return "{ write = true, read = false }"
	case ours == "visibility" && yes && strings.Contains(name, "private"):
		return "{ private = true, public = false }"
	case ours == "visibility" && yes && strings.Contains(name, "public"):
		return "{ public = true, private = false }"
	case ours == "frozen" && yes:
		return "{ yes = true, no = false }"
	case ours == "access" && len(s.enum) > 0:
		return accessWords(s.enum)
	}
	return ""
}

// accessWords sorts a host's names for what one may do into reading and writing.
func accessWords(enum []string) string {
	var read, write []string
	for _, value := range enum {
		list := words(value)
		switch {
		case containsAny(list, "write", "admin", "owner", "maintain", "push", "rw", "developer"):
			write = append(write, strconv.Quote(value))
		case containsAny(list, "read", "pull", "ro", "reporter", "guest", "view"):
			read = append(read, strconv.Quote(value))
		}
	}
	if len(read) == 0 || len(write) == 0 {
		return ""
	}
	return fmt.Sprintf("{ read = [%s], write = [%s] }", strings.Join(read, ", "), strings.Join(write, ", "))
}

func containsAny(list []string, wanted ...string) bool {
	return slices.ContainsFunc(wanted, func(w string) bool { return slices.Contains(list, w) })
}

// takeBody finds a place in the body for what is to be sent, and weighs what else it must hold.
func (m *match) takeBody() {
	if len(m.want.sends) == 0 {
		m.sure += forSends
		return
	}
	body := m.op.body()
	if body == nil {
		m.say("the document does not say what is sent")
		return
	}
	sent := map[string]bool{}
	complete := true
	for _, s := range m.want.sends {
		if m.sendHalves(body, s.ours, sent) {
			continue
		}
		at, found := bodyField(body, s.names, sent)
		switch {
		case found:
			sent[at.name] = true
			m.send(s.ours, at)
		case s.must:
			complete = false
		}
	}
	if complete {
		m.sure += forSends
	} else {
		m.sure -= forPath // it does not take what it is for
	}
	for _, f := range body.fields {
		if !f.required || sent[f.name] {
			continue
		}
		if value := usualValue(f.shape); value != "" {
			m.body[f.name] = value
			m.say("%q is required, and %s is a guess", f.name, value)
			m.sure -= againstIndirect
			continue
		}
		m.sure -= againstRequired
		m.say("%q is required, and nothing fills it", f.name)
	}
}

// bodyField finds a field of a body by its names, the best first; one that is required before others of its kind.
func bodyField(body *shape, names []string, sent map[string]bool) (field, bool) {
	for _, required := range []bool{true, false} {
		for _, name := range names {
			for _, f := range body.fields {
				if plainName(f.name) == name && !sent[f.name] && f.required == required {
					return f, true
				}
			}
		}
	}
	return field{}, false
}

// sendHalves sends a key in two fields, where a body has such.
func (m *match) sendHalves(body *shape, ours string, sent map[string]bool) bool {
	if ours != "line" {
		return false
	}
	blob, hasBlob := bodyField(body, blobNames, sent)
	kind, hasKind := bodyField(body, kindNames, sent)
	if !hasBlob || !hasKind {
		return false
	}
	m.body[blob.name], m.body[kind.name] = `"{blob}"`, `"{kind}"`
	sent[blob.name], sent[kind.name] = true, true
	return true
}

// send puts our template into a field of the body.
func (m *match) send(ours string, at field) {
	template := ours
	switch {
	case ours == "scopes" && at.shape.kind != "array":
		if template = "scopes_spaces"; strings.Contains(at.shape.words, "comma") {
			template = "scopes_commas"
		}
	case ours == "access" || ours == "visibility":
		if table := wordsFor(ours, plainName(at.name), at.shape); table != "" {
			m.words[ours] = table
		} else if at.shape.kind == "boolean" {
			return // which of the two it means is not known
		}
	case ours == "until" && (at.shape.kind == "integer" || at.shape.kind == "number"):
		m.words["dates"] = "seconds"
	case ours == "until" && (at.shape.format == "date" || strings.Contains(at.shape.words, "yyyy-mm-dd") &&
		!strings.Contains(at.shape.words, "hh:mm")):
		m.words["dates"] = "day"
	case ours == "seconds" && strings.Contains(at.shape.words, "day"):
		template = "days"
	}
	m.body[at.name] = `"{` + template + `}"`
}

// usualValue is what a required field that nothing fills can be given: the first of its values, as TOML.
func usualValue(s *shape) string {
	if len(s.enum) == 0 {
		return ""
	}
	switch s.kind {
	case "integer", "number", "boolean":
		return s.enum[0]
	}
	return strconv.Quote(s.enum[0])
}

// Names of parameters by which a list is asked for in parts.
var (
	pageNames   = []string{"page", "pagenumber", "p", "pageno", "pageindex"}
	sizeNames   = []string{"perpage", "pagesize", "limit", "size", "count", "pagelen", "maxresults", "first"}
	cursorNames = []string{"cursor", "after", "pagetoken", "continuationtoken", "continuation", "marker",
		"next", "nextcursor",
		"startingafter"}
	offsetNames = []string{"offset", "skip", "start", "startindex", "from"}
	mineNames   = []string{"membership", "mine", "owned", "member"}

	nextCursors = []string{"nextcursor", "endcursor", "nextpagetoken", "cursor", "next", "continuationtoken", "after",
		"nextmarker", "pagination.nextcursor", "meta.nextcursor", "paging.nextcursor", "page.nextcursor",
		"pageinfo.endcursor", "paging.next", "pagination.next", "meta.next"}
	nextURLs = []string{"next", "nexturl", "nextpage", "links.next", "pagination.next", "meta.next", "paging.next"}
)

// takeParameters fills the parameters behind the path, and finds how a long list goes on.
func (m *match) takeParameters() {
	var query []string
	find := func(names []string) (parameter, bool) {
		for _, name := range names {
			for _, p := range m.op.parameters {
				if p.in == "query" && plainName(p.name) == name {
					return p, true
				}
			}
		}
		return parameter{}, false
	}
	filled := map[string]bool{}
	if m.want.lists {
		query = m.takePaging(find, filled)
	}
	if mine, found := find(mineNames); found && m.want.does == "list-repos" && mine.shape != nil &&
		mine.shape.kind == "boolean" {
		query, filled[mine.name] = append(query, mine.name+"=true"), true
		m.sure += againstIndirect
	}
	for _, p := range m.op.parameters {
		if !p.required || p.in == "path" || filled[p.name] || isOurs(p) {
			continue
		}
		if p.in == "query" && p.shape != nil && usualValue(p.shape) != "" {
			query = append(query, p.name+"="+p.shape.enum[0])
			m.say("the parameter %q is required, and %s is a guess", p.name, p.shape.enum[0])
			m.sure -= againstIndirect
			continue
		}
		m.sure -= againstRequired
		m.say("the parameter %q is required, and nothing fills it", p.name)
	}
	if len(query) > 0 {
		m.path += "?" + strings.Join(query, "&")
	}
}

// isOurs reports whether a parameter is one that every request has anyway.
func isOurs(p parameter) bool {
	return p.in == "header" && slices.Contains([]string{"accept", "authorization", "contenttype", "useragent"},
		plainName(p.name))
}

// takePaging finds how the list goes on.
func (m *match) takePaging(find func([]string) (parameter, bool), filled map[string]bool) (query []string) {
	size, hasSize := find(sizeNames)
	if hasSize {
		filled[size.name] = true
	}
	hasLink := slices.ContainsFunc(m.op.headers, func(h string) bool { return strings.EqualFold(h, "link") }) ||
		strings.Contains(m.op.words, "link header")
	next, hasNext := m.op.reply().find(nextURLs)
	cursor, hasCursor := find(cursorNames)
	at, hasAt := m.op.reply().find(nextCursors)
	page, hasPage := find(pageNames)
	offset, hasOffset := find(offsetNames)
	isURL := hasNext && (next.shape.format == "uri" || next.shape.format == "url" ||
		strings.Contains(next.shape.words, "url") ||
		strings.Contains(next.shape.words, "link") || strings.Contains(next.shape.words, "uri"))
	switch {
	case hasLink:
		m.paging = `{ by = "link" }`
	case isURL:
		m.paging = fmt.Sprintf(`{ by = "next", at = %s }`, strconv.Quote(next.path))
	case hasCursor && hasAt:
		m.paging = fmt.Sprintf(`{ by = "cursor", at = %s }`, strconv.Quote(at.path))
		query, filled[cursor.name] = append(query, cursor.name+"={cursor}"), true
	case hasPage:
		m.paging = `{ by = "page" }`
		query, filled[page.name] = append(query, page.name+"={page}"), true
	case hasOffset:
		m.paging = `{ by = "offset" }`
		query, filled[offset.name] = append(query, offset.name+"={offset}"), true
	case hasNext:
		m.paging = fmt.Sprintf(`{ by = "next", at = %s }`, strconv.Quote(next.path))
	}
	return query
}
