package draft

import (
	"slices"
	"strings"
)

// takeReply looks for what must be found in what comes back.
func (m *match) takeReply() bool {
	if len(m.want.finds) == 0 {
		m.sure += forFinds
		return true
	}
	fits := func(s *shape) bool { return m.fit(s, false) }
	reply := m.op.reply()
	var item *shape
	found := false
	switch {
	case m.want.does == "host-keys":
		m.items, item, found = hostKeyList(reply, slices.Contains(words(m.op.path), "key"))
	case m.want.lists:
		if m.items, item, found = reply.list(fits); !found {
			if m.items, item, found = reply.single(fits); found && m.items == "" {
				m.sure -= againstSingle
				m.say("the document says that one comes back, and a list is expected")
			} else {
				found = false
			}
		}
	default:
		m.items, item, found = reply.single(fits)
	}
	switch {
	case !found && reply == nil && m.want.does != "add-key" && !strings.HasPrefix(m.want.does, "add-"):
		m.say("the document does not say what comes back")
		return false
	case !found && strings.HasPrefix(m.want.does, "add-"): // it may answer with nothing: then it is looked up
		m.items = ""
		m.sure += forFinds / 2
		return true
	case !found:
		return false
	}
	m.sure += forFinds
	m.fit(item, true)
	if m.fields["ssh"] != "" || m.fields["https"] != "" { // a repository, and no other project
		m.sure += againstIndirect
	}
	extras := 0
	for ours := range m.fields {
		if !m.must(ours) {
			extras++
		}
	}
	m.sure += forExtras * min(1, float64(extras)/2)
	return true
}

func (m *match) must(ours string) bool {
	return slices.ContainsFunc(m.want.finds, func(f finding) bool { return f.ours == ours && f.must })
}

// fit reports whether a result has all that must be found; keep notes where.
func (m *match) fit(s *shape, keep bool) bool {
	if m.want.does == "host-keys" {
		return m.fitHostKeys(s, keep)
	}
	taken := map[string]bool{}
	for _, f := range m.want.finds {
		at, found := s.find(without(f.names, taken))
		if f.ours == "line" {
			at, found = keyLine(s, taken)
		}
		if !found && f.must {
			return false
		}
		if !found {
			continue
		}
		for _, path := range strings.Split(at.path, " ") {
			taken[plainName(strings.TrimPrefix(path, "$."))] = true
		}
		if keep {
			m.keep(f.ours, at)
		}
	}
	return true
}

func without(names []string, taken map[string]bool) []string {
	return slices.DeleteFunc(slices.Clone(names), func(n string) bool { return taken[n] })
}

// keyLine is where the public line of a key is: in one field, or in two that are joined.
func keyLine(s *shape, taken map[string]bool) (spot, bool) {
	blob, hasBlob := s.find(blobNames)
	kind, hasKind := s.find(kindNames)
	if hasBlob && hasKind {
		return spot{kind.path + " " + blob.path, blob.shape}, true
	}
	return s.find(without(lineNames, taken))
}

// hostKeyList finds the list of a host's keys: where the path does not say so, by the name of its field.
func hostKeyList(s *shape, said bool) (place string, item *shape, found bool) {
	if s == nil {
		return "", nil, false
	}
	if place, item, found := s.list(hasKey); said && found {
		return place, item, true
	}
	for _, f := range s.fields {
		list := words(f.name)
		if f.shape.kind == "array" && f.shape.items != nil && slices.Contains(list, "key") &&
			(said || slices.Contains(list, "ssh") || slices.Contains(list, "host")) {
			return "$" + step(f.name) + "[*]", f.shape.items, true
		}
	}
	return "", nil, false
}

// hasKey reports whether a value is a host's key, or has one.
func hasKey(s *shape) bool { return (&match{}).fitHostKeys(s, false) }

func (m *match) fitHostKeys(s *shape, keep bool) bool {
	if s == nil {
		return false
	}
	if s.kind == "string" {
		if keep {
			m.fields["line"] = "$"
		}
		return true
	}
	line, hasLine := keyLine(s, nil)
	if keep && hasLine {
		m.fields["line"] = line.path
	}
	print, hasPrint := s.find([]string{"fingerprint", "sha256", "fingerprintsha256"})
	if keep && hasPrint && !hasLine {
		m.fields["fingerprint"] = print.path
	}
	return hasLine || hasPrint
}

// keep notes where a value is found, and which words the host has for ours.
func (m *match) keep(ours string, at spot) {
	m.fields[ours] = at.path
	last := plainName(at.path[strings.LastIndexAny(at.path, ".'")+1:])
	if table := wordsFor(ours, last, at.shape); table != "" {
		m.words[ours] = table
	} else if (ours == "access" || ours == "visibility" || ours == "frozen") && at.shape.kind == "boolean" {
		delete(m.fields, ours)
	}
}
