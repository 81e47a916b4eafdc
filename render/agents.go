package render

import (
	"strings"
	"time"

	"anchorage.example/unicrux/core/look"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/render/document"
)

// LookAgents writes of each agent for which hosts ssh would ask it, and what it holds.
func LookAgents(s Style, v *look.View, now time.Time, tilde func(string) string) string {
	if len(v.Agents) == 0 {
		return s.Sentences(
			"Nothing is held unlocked: no holder runs, and neither SSH_AUTH_SOCK nor settings name another agent.",
		)
	}
	var parts []string
	for _, agent := range v.Agents {
		text := s.block(7, []row{
			{label: agentWord(agent), tone: bold, lines: []string{tilde(agent.Socket)}},
			{label: "asked", tone: grey, text: askedFor(agent)},
			{label: "holds", tone: grey, text: holdsWord(agent)},
		})
		if len(agent.Keys) > 0 {
			text += "\n" + s.heldKeys(agent, now, tilde)
		}
		parts = append(parts, text)
	}
	return strings.Join(parts, "\n")
}

func agentWord(a look.Agent) string {
	if a.Holder {
		return "holder"
	}
	return "agent"
}

func askedFor(a look.Agent) string {
	var list []string
	if len(a.Hosts) > 0 {
		list = append(list, strings.Join(a.Hosts, ", "))
	}
	if a.Default {
		list = append(list, "every host without settings of its own")
	}
	if len(list) == 0 {
		return "by no host's settings"
	}
	return "for " + strings.Join(list, ", and for ")
}

func holdsWord(a look.Agent) string {
	switch {
	case a.Holder && !a.Answers:
		return "nothing: it does not run, and starts by itself when it is needed"
	case !a.Answers:
		return "It does not answer."
	case len(a.Keys) == 0:
		return "no key"
	}
	return count(len(a.Keys), "key", "keys")
}

func (s Style) heldKeys(a look.Agent, now time.Time, tilde func(string) string) string {
	var rows [][]string
	for _, held := range a.Keys {
		end := "not known"
		if !held.Ends.IsZero() {
			end = until(held.Ends, now)
		}
		rows = append(rows, []string{heldName(held.Comment, tilde), sshkey.Kind(held.Public),
			s.tideLine(sshkey.Eye(held.Public)), end})
	}
	return s.table([]string{"key", "type", "tide line", "forgotten"}, rows)
}

func agentDoc(a look.Agent) document.Agent {
	return document.Agent{Socket: document.Path(a.Socket), Holder: a.Holder, Answers: a.Answers,
		AskedFor: document.List(a.Hosts), AskedForOthers: a.Default,
		Keys: document.Map(a.Keys, func(held look.Held) document.HeldKey {
			return document.HeldKey{Comment: held.Comment, Fingerprint: sshkey.Fingerprint(held.Public),
				Until: document.Time(held.Ends)}
		})}
}
