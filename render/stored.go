package render

import (
	"fmt"
	"strings"

	"anchorage.example/unicrux/core/knownhosts"
	"anchorage.example/unicrux/core/look"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/render/document"
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

// KnownHosts makes the part of the look's document with the stored host keys.
func KnownHosts(list []look.Stored, problems []knownhosts.Problem) *document.KnownHosts {
	return &document.KnownHosts{Keys: document.Map(list, knownHostKey),
		Unreadable: document.Map(problems, func(p knownhosts.Problem) string {
			return fmt.Sprintf("%s:%d: %v", p.File, p.Line, p.Err)
		})}
}

func knownHostKey(stored look.Stored) document.KnownHostKey {
	d := document.KnownHostKey{Origin: stored.Origin(), HostNames: document.List(stored.Hosts), Hashed: stored.Hashed,
		Marker: document.Text(string(stored.Marker)), Type: sshkey.Kind(stored.Key),
		Fingerprint: sshkey.Fingerprint(stored.Key), Fault: document.Text(string(stored.Fault))}
	if stored.Of != nil {
		d.Repeats = document.Text(stored.Of.Origin())
	}
	return d
}
