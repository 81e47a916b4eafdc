package draft

import (
	"fmt"
	"slices"
	"strings"
	"unicode"
)

// A match is a request of the document that may be the one for an operation of ours.
type match struct {
	want    want
	op      *operation
	sure    float64
	path    string // with our templates
	items   string
	fields  map[string]string
	words   map[string]string // ours for a field, as TOML
	body    map[string]string // the document's names, and our templates or TOML values
	paging  string
	lookups []string // names of those that it needs
	guesses []string // what is said of it in comments
}

// words takes a segment of a path apart: letters by case and marks, in the singular.
func words(segment string) []string {
	var list []string
	word := ""
	flush := func() {
		if word != "" {
			list = append(list, singular(strings.ToLower(word)))
		}
		word = ""
	}
	for i, c := range segment {
		switch {
		case !unicode.IsLetter(c) && !unicode.IsDigit(c):
			flush()
			continue
		case unicode.IsUpper(c) && i > 0 && word != "" && !unicode.IsUpper(rune(word[len(word)-1])):
			flush()
		}
		word += string(c)
	}
	flush()
	return list
}

func singular(word string) string {
	switch {
	case strings.HasSuffix(word, "ies") && len(word) > 4:
		return word[:len(word)-3] + "y"
	case strings.HasSuffix(word, "ss"), len(word) < 4, word == "access":
		return word
	}
	return strings.TrimSuffix(word, "s")
}

// is reports whether words are a noun: a main one, and nothing beside it that says something else.
func (n noun) is(list []string) bool {
	main := slices.ContainsFunc(list, func(w string) bool { return slices.Contains(n.main, w) }) ||
		slices.Contains(n.main, strings.Join(list, ""))
	for _, word := range list {
		if !slices.Contains(n.main, word) && !slices.Contains(n.beside, word) {
			return false
		}
	}
	return main
}

// A segment of a path is fixed, or a parameter.
type segment struct {
	text, param string
	words       []string
}

func segments(path string) []segment {
	var list []segment
	for text := range strings.SplitSeq(strings.Trim(path, "/"), "/") {
		if text == "" {
			continue
		}
		s := segment{text: text, words: words(text)}
		if strings.HasPrefix(text, "{") && strings.HasSuffix(text, "}") {
			s.param = strings.Trim(text, "{}")
		}
		list = append(list, s)
	}
	return list
}

// consider weighs whether a request is the one that is wanted; nil where it is something else altogether.
func (d *document) consider(w want, op *operation) *match {
	if !slices.Contains(w.methods, op.method) {
		return nil
	}
	m := &match{want: w, op: op, sure: forPath, fields: map[string]string{}, words: map[string]string{},
		body: map[string]string{}}
	if !m.takePath(d) {
		return nil
	}
	if op.deprecated {
		m.sure -= againstDeprecated
		m.say("the document calls it deprecated")
	}
	if !m.takeReply() {
		return nil
	}
	m.takeBody()
	m.takeParameters()
	return m
}

func (m *match) say(words string, args ...any) {
	m.guesses = append(m.guesses, fmt.Sprintf(words, args...))
}

// takePath reads the path, and says whether it can be the wanted one.
func (m *match) takePath(d *document) bool {
	list := segments(m.op.path)
	end := len(list)
	if end == 0 {
		return false
	}
	item := -1
	if len(m.want.ends) > 0 {
		last := list[end-1]
		if last.param != "" || !slices.Contains(m.want.ends, strings.Join(last.words, "")) {
			return m.want.does == "show-token" && m.takeRest(list, m.nounAt(list, end), -1) &&
				!slices.ContainsFunc(m.want.noun.main,
					func(w string) bool { return strings.HasSuffix(list[end-1].text, w+"s") })
		}
		end--
	}
	if m.want.item && end > 0 && list[end-1].param != "" {
		end--
		item = end
		for end > 0 && list[end-1].param != "" { // owner and name
			end--
		}
	} else if m.want.item && m.want.does == "renew-token" && end > 0 &&
		slices.Contains(selfWords, list[end-1].text) {
		end--
	} else if m.want.item {
		return false
	}
	if (m.want.does == "list-repos" || m.want.does == "add-repo") && list[end-1].param != "" { // of an owner
		for end > 0 && list[end-1].param != "" {
			end--
		}
		if len(list)-end > 2 || m.want.does == "list-repos" && len(list)-end > 1 {
			return false
		}
	}
	return m.takeRest(list, m.nounAt(list, end), item)
}

// nounAt is where the noun of a path begins that ends there; -1 where it is another noun.
func (m *match) nounAt(list []segment, end int) int {
	if end <= 0 || list[end-1].param != "" || !m.want.noun.is(list[end-1].words) {
		return -1
	}
	signing := slices.Contains(list[end-1].words, "signing") || slices.Contains(list[end-1].words, "signingkey")
	if (m.want.does == "list-signing-keys" || m.want.does == "add-signing-key" ||
		m.want.does == "remove-signing-key") !=
		signing && strings.Contains(m.want.does, "key") && m.want.does != "host-keys" {
		return -1
	}
	return end - 1
}

// takeRest reads what is before the noun, and makes our path of the whole.
func (m *match) takeRest(list []segment, at, item int) bool {
	if at < 0 {
		return false
	}
	avoid := othersWords
	switch {
	case strings.Contains(m.want.does, "key"):
		avoid = slices.Concat(avoid, otherKeys)
	case strings.Contains(m.want.does, "token"):
		avoid = slices.Concat(avoid, otherTokens)
	}
	for _, s := range list {
		if s.param == "" && slices.ContainsFunc(s.words, func(w string) bool { return slices.Contains(avoid, w) }) {
			return false
		}
	}
	parts := make([]string, len(list))
	repo, own := false, false
	for i, s := range list {
		parts[i] = s.text
		switch {
		case s.param != "" && i == item && (m.want.context != ofRepo || !isRepoWord(list[at])):
			if parts[i] = "{id}"; plainName(s.param) == "fingerprint" {
				parts[i] = "{fingerprint}"
			}
		case s.param != "":
			part, kind := m.parameter(list, i, item)
			if kind == "" {
				return false
			}
			parts[i] = part
			repo, own = repo || kind == "repo", own || kind == "user"
		case i < at && slices.ContainsFunc(s.words, func(w string) bool { return slices.Contains(repoWords, w) }):
			repo = true
		case i < at && slices.ContainsFunc(s.words, func(w string) bool { return slices.Contains(accountWords, w) }):
			own = true
		case i < at && !isVersion(s.text):
			m.sure -= againstStranger
			m.say("nothing explains %q in its path", s.text)
		}
	}
	if (m.want.context == ofRepo) != repo && m.want.context != ofHost || m.want.context == ofHost && (repo || own) {
		return false
	}
	if m.want.context == ofAccount && !own && at == 0 && strings.HasSuffix(m.want.does, "s") &&
		m.want.does == "list-repos" {
		m.sure -= againstIndirect // perhaps everybody's
	}
	m.path = strings.Join(parts, "/")
	return true
}

func isRepoWord(s segment) bool {
	return slices.ContainsFunc(s.words, func(w string) bool { return slices.Contains(repoWords, w) })
}

func isVersion(text string) bool {
	return len(text) < 5 && strings.HasPrefix(text, "v") || slices.Contains([]string{"api", "rest", "latest"}, text)
}

// parameter is our template for a parameter of a path, and of what it is: a user, or a repository.
func (m *match) parameter(list []segment, i, item int) (template, kind string) {
	name := plainName(list[i].param)
	before := ""
	if i > 0 && list[i-1].param == "" {
		before = list[i-1].words[len(list[i-1].words)-1]
	}
	number, text := m.typeOf(list[i].param)
	inRepo := slices.Contains(repoWords, before) || i > 0 && list[i-1].param != ""
	next := i+1 < len(list) && list[i+1].param != ""
	switch {
	case m.want.context == ofRepo && next:
		return "{owner}", "repo"
	case m.want.context == ofRepo && i > 0 && list[i-1].param != "":
		return "{name}", "repo"
	case m.want.context == ofRepo && inRepo && number && !strings.Contains(text, "path"):
		m.lookups = append(m.lookups, "project")
		m.sure -= againstIndirect
		m.say("the host's own number of a repository is looked up")
		return "{project}", "repo"
	case m.want.context == ofRepo && inRepo:
		return "{repo}", "repo"
	case slices.Contains([]string{"user", "account", "people", "person", "member"}, before) && number:
		m.lookups = append(m.lookups, "user_number")
		m.sure -= againstIndirect
		m.say("the host's own number of the account is looked up")
		return "{user_number}", "user"
	case slices.Contains(userNames, name), slices.Contains(userIDs, name) &&
		slices.Contains([]string{"user", "account", "people", "person"}, before):
		m.sure -= againstIndirect
		m.say("the account is in its path")
		return "{account}", "user"
	case m.want.does == "add-repo" && i == len(list)-1 && i > 0 && list[i-1].param != "":
		return "{name}", "user"
	case slices.Contains(ownerNames, name) || m.want.does == "list-repos" || m.want.does == "add-repo":
		if m.want.does == "add-repo" && next {
			return "{owner}", "user"
		}
		m.sure -= againstIndirect
		m.lookups = append(m.lookups, ownerLookup+name)
		return "{" + ownerVariable(name) + "}", "user"
	}
	return "", ""
}

// ownerLookup begins the note that an operation needs to know which owner is meant, behind which is what the document
// calls it.
const ownerLookup = "owner "

// ownerVariable is our name for the one of several owners that is meant.
func ownerVariable(name string) string { return "chosen_" + name }

// typeOf says whether a parameter of the path is a number, and what the document says of it.
func (m *match) typeOf(name string) (number bool, words string) {
	for _, p := range m.op.parameters {
		if p.name == name && p.in == "path" {
			return p.shape != nil && p.shape.kind == "integer", p.words
		}
	}
	return false, ""
}
