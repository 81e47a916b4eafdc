package render

import (
	"fmt"
	"strings"

	"anchorage.example/unicrux/core/knownhosts"
	"anchorage.example/unicrux/core/look"
	"anchorage.example/unicrux/core/sshkey"
)

// StoredKeys writes in plain words which stored line belongs to which host, and what is wrong
// with some.
func StoredKeys(s Style, list []look.Stored, problems []knownhosts.Problem, tilde func(string) string) string {
	if len(list) == 0 && len(problems) == 0 {
		return s.Sentences("No host key is stored.")
	}
	var rows [][]string
	var careful []string
	for _, stored := range list {
		rows = append(rows, []string{tilde(stored.Origin()), storedFor(stored), sshkey.Kind(stored.Key),
			s.tideLine(sshkey.Eye(stored.Key))})
		switch stored.Fault {
		case look.Doubled:
			careful = append(careful, fmt.Sprintf("%s says the same as %s. One of the two is enough.",
				tilde(stored.Origin()), tilde(stored.Of.Origin())))
		case look.Wrong:
			careful = append(careful,
				fmt.Sprintf("%s is not the key that the description of %s names. Take it out unless you know better.",
					tilde(stored.Origin()), strings.Join(stored.Hosts, ", ")))
		case look.Rival:
			careful = append(careful,
				fmt.Sprintf("%s and %s hold different keys of one kind for the same host: one of them is stale.",
					tilde(stored.Of.Origin()), tilde(stored.Origin())))
		}
	}
	for _, problem := range problems {
		careful = append(careful, fmt.Sprintf("%s:%d says nothing to ssh: %v.",
			tilde(problem.File), problem.Line, problem.Err))
	}
	return s.table([]string{"stored", "belongs to", "type", "tide line"}, rows) + Careful(s, careful)
}

// storedFor says to whom a line belongs.
func storedFor(stored look.Stored) string {
	text := strings.Join(stored.Hosts, ", ")
	switch {
	case text == "" && stored.Hashed:
		text = "a hashed name that nothing here names"
	case text == "":
		text = stored.Entry.Hosts
	case stored.Hashed:
		text += " (hashed)"
	}
	switch stored.Marker {
	case knownhosts.Revoked:
		return text + ", revoked"
	case knownhosts.Authority:
		return text + ", as an authority"
	}
	return text
}

// StoredDocument makes the document "unicrux.look/1" with the stored host keys.
func StoredDocument(v *look.View, list []look.Stored, problems []knownhosts.Problem) any {
	type entry struct {
		Origin      string   `json:"origin"`
		Hosts       []string `json:"hosts"`
		Hashed      bool     `json:"hashed"`
		Marker      *string  `json:"marker"`
		Kind        string   `json:"type"`
		Fingerprint string   `json:"fingerprint"`
		Fault       *string  `json:"fault"` // doubled, rival, wrong or revoked
		Of          *string  `json:"of"`    // the line that it repeats or contradicts
	}
	made := []entry{}
	for _, stored := range list {
		e := entry{Origin: stored.Origin(), Hosts: append([]string{}, stored.Hosts...), Hashed: stored.Hashed,
			Marker: optional(string(stored.Marker)),
			Kind:   sshkey.Kind(stored.Key), Fingerprint: sshkey.Fingerprint(stored.Key),
			Fault: optional(string(stored.Fault))}
		if stored.Of != nil {
			e.Of = optional(stored.Of.Origin())
		}
		made = append(made, e)
	}
	bad := []string{}
	for _, problem := range problems {
		bad = append(bad, fmt.Sprintf("%s:%d: %v", problem.File, problem.Line, problem.Err))
	}
	return struct {
		lookDocument
		Stored     []entry  `json:"stored"`
		Unreadable []string `json:"unreadable"`
	}{lookDoc(v), made, bad}
}
