package describe

import (
	"maps"
	"slices"
)

// A Known operation is one that the language knows.
type Known struct {
	Does    string     // in words: what the host can do then
	Needs   []string   // fields that it must find
	OneOf   []string   // of which it must find one
	Finds   []string   // fields that it may find besides
	Takes   []string   // variables that its templates may hold
	Must    [][]string // of each of which at least one must stand in a template
	Lists   bool       // it has any number of results
	Changes bool       // it changes something at the host
}

// Groups of variables and fields that several operations share.
var (
	end     = []string{"until", "days", "seconds"}
	scopes  = []string{"scopes", "scopes_spaces", "scopes_commas"}
	ofRepo  = []string{"repo", "owner", "name"}
	keyVars = slices.Concat([]string{"title", "line", "kind", "blob", "fingerprint", "access"}, end)
	keyFind = []string{"title", "until", "used", "access"}
	repoFie = []string{"ssh", "https", "access", "visibility", "frozen", "branch", "about"}
)

// Operations lists the operations that the language knows, by name.
var Operations = map[string]Known{
	"who":       {Does: "show whose token it is", Needs: []string{"account"}, Finds: []string{"id", "scopes", "until"}},
	"host-keys": {Does: "publish its host keys", OneOf: []string{"line", "fingerprint"}, Lists: true},

	"list-keys": {Does: "list keys", Needs: []string{"id", "line"}, Finds: keyFind, Lists: true},
	"add-key": {Does: "register keys", Finds: []string{"id"}, Takes: keyVars, Must: [][]string{{"line", "blob"}},
		Changes: true},
	"remove-key": {Does: "remove keys", Takes: []string{"id", "title", "fingerprint"},
		Must: [][]string{{"id", "title", "fingerprint"}}, Changes: true},

	"list-repo-keys": {Does: "list keys of a repository", Needs: []string{"id", "line"}, Finds: keyFind,
		Takes: ofRepo, Lists: true},
	"add-repo-key": {Does: "register keys for one repository", Finds: []string{"id"},
		Takes: slices.Concat(keyVars, ofRepo), Must: [][]string{{"line", "blob"}}, Changes: true},
	"remove-repo-key": {Does: "remove keys of a repository",
		Takes: slices.Concat([]string{"id", "title", "fingerprint"}, ofRepo),
		Must:  [][]string{{"id", "title", "fingerprint"}}, Changes: true},

	"list-signing-keys": {Does: "list keys for signing", Needs: []string{"id", "line"}, Finds: keyFind, Lists: true},
	"add-signing-key": {Does: "register keys for signing", Finds: []string{"id"}, Takes: keyVars,
		Must: [][]string{{"line", "blob"}}, Changes: true},
	"remove-signing-key": {Does: "remove keys for signing", Takes: []string{"id", "title", "fingerprint"},
		Must: [][]string{{"id", "title", "fingerprint"}}, Changes: true},

	"issue-token": {Does: "issue tokens", Needs: []string{"token"}, Finds: []string{"id", "until", "scopes"},
		Takes: slices.Concat([]string{"label"}, scopes, end), Changes: true},
	"list-tokens": {Does: "list tokens", Needs: []string{"id"},
		Finds: []string{"label", "until", "scopes", "used", "made"}, Lists: true},
	"show-token": {Does: "show what a token may do", Finds: []string{"id", "label", "until", "scopes", "account"}},
	"renew-token": {Does: "renew tokens", Needs: []string{"token"}, Finds: []string{"id", "until", "scopes"},
		Takes: slices.Concat([]string{"id", "label"}, scopes, end), Changes: true},
	"revoke-token": {Does: "revoke tokens", Takes: []string{"id", "token"}, Changes: true},

	"list-repos": {Does: "list repositories", Needs: []string{"path"}, Finds: repoFie,
		Takes: []string{"search"}, Lists: true},
	"show-repo": {Does: "show a repository", Needs: []string{"path"}, Finds: repoFie, Takes: ofRepo,
		Must: [][]string{{"repo", "name"}}},
	"add-repo": {Does: "create repositories", Finds: slices.Concat([]string{"path"}, repoFie),
		Takes: slices.Concat(ofRepo, []string{"visibility", "branch", "about"}), Must: [][]string{{"repo", "name"}},
		Changes: true},
}

// Everywhere lists the variables that any template may hold: whose token it is.
var everywhere = []string{"account"}

// entries is the variable of a whole list.
const entries = "entries"

// Names lists the operations in the order in which they are shown.
func Names() []string {
	order := []string{"who", "host-keys", "list-keys", "add-key", "remove-key", "list-repo-keys", "add-repo-key",
		"remove-repo-key", "list-signing-keys", "add-signing-key", "remove-signing-key",
		"issue-token", "list-tokens", "show-token", "renew-token", "revoke-token", "list-repos",
		"show-repo", "add-repo"}
	if len(order) != len(Operations) {
		panic("describe: an operation has no place in the order")
	}
	return order
}

// Purposes are what one may want a token for, as people say it.
func Purposes() []string { return []string{"clone", "push", "packages", "keys", "repos"} }

func known() []string { return slices.Sorted(maps.Keys(Operations)) }

// datesForms are the forms in which a host may be told a time.
var datesForms = []string{"rfc3339", "day", "seconds", "milliseconds", "http"}
