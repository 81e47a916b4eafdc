package draft

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"anchorage.example/unicrux/core/describe"
)

// prefixed finds the word that the document wants before a token in a header.
var prefixed = regexp.MustCompile(
	`(?i)(?:prepend\w*|prefix\w*|begin\w*|start\w*) with (?:the (?:word|text|prefix) )?["'` + "`" + `]?([A-Za-z]+)["'` + "`" + `]?|` +
		"[\"'`](?:Authorization: )?([A-Za-z]+) [<{\\[(]?\\w*(?:token|key)",
)

// A way in which a token is shown, as lines of the description, and what is said of it.
type signIn struct{ lines, password, comments []string }

// signIn finds how a token is shown: as a bearer first, then in a header, in a parameter, and by Basic sign-in.
func (d *document) signIn() (s signIn) {
	by := func(kind string, fits func(scheme) bool) (scheme, bool) {
		i := slices.IndexFunc(d.schemes, func(s scheme) bool { return s.kind == kind && (fits == nil || fits(s)) })
		if i < 0 {
			return scheme{}, false
		}
		return d.schemes[i], true
	}
	add := func(from scheme, line string) {
		s.lines = append(s.lines, line)
		s.comments = append(s.comments, fmt.Sprintf("from the security scheme %q", from.name))
	}
	oauth, hasOAuth := by("oauth", nil)
	header, hasHeader := by("header", forToken)
	bearer, hasBearer := by("bearer", nil)
	query, hasQuery := by("query", forToken)
	basic, hasBasic := by("basic", nil)
	switch {
	case hasHeader && strings.EqualFold(header.in, "Authorization"):
		add(header, "header = "+strconv.Quote("Authorization: "+authorization(header.words)))
	case hasBearer:
		add(bearer, `header = "Authorization: Bearer {token}"`)
	case hasHeader:
		add(header, "header = "+strconv.Quote(header.in+": {token}"))
	case hasOAuth:
		add(oauth, `header = "Authorization: Bearer {token}"`)
	case hasQuery:
		add(query, "query = "+strconv.Quote(query.in))
	case hasBasic:
		add(basic, `basic = "{account}:{token}"`)
		s.comments = append(s.comments, "a token takes the place of the password: a guess")
	default:
		s.lines = append(s.lines, `header = "Authorization: Bearer {token}"`)
		s.comments = append(s.comments, "the document does not say how a token is sent: a guess")
	}
	if !hasBasic {
		return s
	}
	s.password = []string{`basic = "{account}:{password}"`}
	if code, found := by("header", func(s scheme) bool { return !forToken(s) && isSecondStep(s) }); found {
		s.password = append(s.password, "second-step = "+strconv.Quote(code.in+": {code}"))
	}
	return s
}

// authorization is what an Authorization header holds, as far as the words beside it say.
func authorization(words string) string {
	match := prefixed.FindStringSubmatch(words)
	for _, prefix := range match[min(1, len(match)):] {
		if prefix != "" {
			return prefix + " {token}"
		}
	}
	return "Bearer {token}"
}

// forToken reports whether a scheme is for tokens: not for a second step, a session or what others do in one's name.
func forToken(s scheme) bool {
	list := words(s.in + " " + s.name)
	return !isSecondStep(s) && !containsAny(list, "sudo", "session", "cookie", "csrf", "webhook", "trigger", "otp",
		"deploy", "job", "ci")
}

func isSecondStep(s scheme) bool {
	return containsAny(words(s.in+" "+s.name), "otp", "totp", "2fa", "mfa", "twofactor") ||
		strings.Contains(strings.ToLower(s.words), "two-factor")
}

// basicFor reports whether an operation can be asked for by an account's password.
func (d *document) basicFor(op *operation) bool {
	for _, alternative := range op.security {
		for _, name := range alternative {
			if slices.ContainsFunc(d.schemes, func(s scheme) bool { return s.name == name && s.kind == "basic" }) {
				return true
			}
		}
	}
	return false
}

// scopeList gathers the scopes that the document names: those of OAuth, and those that a new token may have.
func (d *document) scopeList(chosen map[string]*match) (list []scopeOf) {
	for _, s := range d.schemes {
		list = append(list, s.scopes...)
	}
	issue := chosen["issue-token"]
	if issue == nil {
		return list
	}
	of := issue.op.body()
	if of == nil {
		return list
	}
	if at, found := bodyField(of, scopeNames, nil); found {
		values := at.shape.enum
		if at.shape.items != nil {
			values = at.shape.items.enum
		}
		if len(values) > 0 {
			list = nil // a token has these
		}
		for _, value := range values {
			list = append(list, scopeOf{name: value})
		}
	}
	return list
}

// purposeWords are what the name of a scope has for a purpose: what it is about, what it allows, and what it is not.
var purposeWords = map[string]struct{ about, may, not []string }{
	"clone": {[]string{"repo", "repository", "project", "tree", "code"}, []string{"read", "pull", "clone"},
		[]string{"write", "admin", "delete", "hook", "registry", "package", "status"}},
	"push": {[]string{"repo", "repository", "project", "tree", "code"}, []string{"write", "push"},
		[]string{"read", "admin", "delete", "hook", "registry", "package", "status"}},
	"packages": {[]string{"package", "registry"}, []string{"read", "pull"}, []string{"write", "admin", "delete"}},
	"keys": {[]string{"key", "sshkey", "user", "account"}, []string{"write", "admin", "manage"},
		[]string{"read", "gpg", "email", "follow", "deploy", "repo", "delete"}},
	"repos": {[]string{"repo", "repository", "project", "tree", "api"},
		[]string{"write", "admin", "create", "manage"}, []string{"read", "delete", "hook", "registry",
			"package", "status"}},
}

// purposes finds the host's scopes for each of our purposes; a purpose that nothing fits has none.
func (d *document) purposes(chosen map[string]*match) map[string]string {
	scopes := d.scopeList(chosen)
	found := map[string]string{}
	for _, purpose := range describe.Purposes() {
		if asked := askedScope(chosen, purpose); asked != "" {
			found[purpose] = asked
			continue
		}
		best, most := "", 0
		for _, s := range scopes {
			if score := scoreScope(purpose, s); score > most {
				best, most = s.name, score
			}
		}
		if most >= 3 {
			found[purpose] = best
		}
	}
	// Where a scope is for everything, it is what making repositories and keys needs, unless another says so.
	i := slices.IndexFunc(scopes,
		func(s scopeOf) bool { return slices.Contains([]string{"api", "all", "full", "*"}, s.name) })
	for _, purpose := range []string{"keys", "repos"} {
		if i >= 0 && (found[purpose] == "" || purpose == "repos" && found[purpose] == found["push"]) {
			found[purpose] = scopes[i].name
		}
	}
	return found
}

// askedScope is the scope that the document wants for the very operation that a purpose needs.
func askedScope(chosen map[string]*match, purpose string) string {
	does := map[string]string{"keys": "add-key", "repos": "add-repo", "clone": "show-repo"}[purpose]
	m := chosen[does]
	if m == nil || len(m.op.scopes) == 0 {
		return ""
	}
	for _, scope := range m.op.scopes { // the one that says so, if there is one
		if scoreScope(purpose, scopeOf{name: scope}) >= 3 {
			return scope
		}
	}
	return m.op.scopes[0]
}

// scoreScope weighs whether a scope is for a purpose: 2 for what it is about, 2 for what it allows.
func scoreScope(purpose string, s scopeOf) int {
	table, list := purposeWords[purpose], words(s.name)
	if containsAny(list, table.not...) {
		return 0
	}
	score := 0
	if containsAny(list, table.about...) {
		score += 2
	}
	if containsAny(list, table.may...) {
		score += 2
	} else if score > 0 && len(list) == 1 { // the bare noun means all of it, or the least of it
		score++
	}
	if purpose == "keys" && containsAny(list, "key", "sshkey") {
		score++
	}
	return score
}
