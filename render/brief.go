package render

import (
	"time"

	"anchorage.example/unicrux/core/look"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/render/document"
)

// mostBrief bounds how many matters are written above a prompt.
const mostBrief = 3

// Brief writes a line for each matter, and nothing where there is none.
func Brief(s Style, list []look.Matter, now time.Time, tilde func(string) string) string {
	text := ""
	for i, m := range list {
		if i == mostBrief {
			more := "And " + count(len(list)-i, "thing", "things") + " more: unicrux look"
			return text + margin + s.paint(ochre, more) + "\n"
		}
		summary, command := matter(m, now, tilde)
		text += margin + s.paint(ochre, summary+": "+Command(command)) + "\n"
	}
	return text
}

// matter says what the matter is, and which command helps.
func matter(m look.Matter, now time.Time, tilde func(string) string) (summary string, command []string) {
	path := untrusted.Clean(tilde(m.Path))
	switch m.Topic {
	case look.ExposedKey:
		return "Others can read the private key " + path, []string{"chmod", "600", path}
	case look.MovedProgram:
		return "Your settings start Unicrux at " + path + ", where it no longer is",
			[]string{"unicrux", "check", "--mend"}
	case look.Token:
		return "The token " + m.Name + " " + ends(m.Until, now), []string{"unicrux", "token", "renew", m.Name}
	}
	return "The certificate of " + path + " " + ends(m.Until, now), []string{"unicrux", "key", "show", path}
}

// BriefDocument makes the document of what matters.
func BriefDocument(list []look.Matter, now time.Time) any {
	same := func(path string) string { return path }
	return document.Brief{Schema: document.Schema("brief"),
		Matters: document.Map(list, func(m look.Matter) document.Matter {
			summary, command := matter(m, now, same)
			return document.Matter{Topic: string(m.Topic), Summary: summary + ".", Command: command,
				Until: document.Time(m.Until)}
		})}
}
