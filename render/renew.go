package render

import (
	"fmt"
	"strings"

	"anchorage.example/unicrux/core/renewal"
	"anchorage.example/unicrux/core/sshconfig"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/render/document"
)

// Renewed writes what a renewal came to.
func Renewed(s Style, r *renewal.Renewed, old *sshkey.Pair, tilde func(string) string) string {
	text := ""
	if r.Withdrawn {
		text = s.Sentences(fmt.Sprintf("%s is in the place of %s, whose files are set aside.",
			r.New.Name(), old.Name()))
	} else {
		text = s.Sentences(fmt.Sprintf("%s is ready, and %s stays where it is.", r.New.Name(), old.Name()))
	}
	text += s.forgetByHand(r.ByHand, old)
	if len(r.Left) > 0 {
		text += s.Sentences("These settings still lead to the old key:") + s.mentions(r.Left, tilde)
	}
	if r.Default {
		text += s.Sentences(
			"ssh offers the old key to every host without settings of its own, so other servers may know it. Once none does:",
		) +
			CommandLine(
				s,
				"unicrux",
				"key",
				"retire",
				old.Name(),
			)
	}
	return text
}

func (s Style) forgetByHand(names []string, old *sshkey.Pair) string {
	if len(names) == 0 {
		return ""
	}
	return s.Sentences(fmt.Sprintf("Remove %s on the web page of %s: its API cannot do it.", old.Name(),
		strings.Join(names, ", ")))
}

func (s Style) mentions(list []sshconfig.Mention, tilde func(string) string) string {
	var b strings.Builder
	for _, mention := range list {
		b.WriteString(margin + tilde(mention.Origin.String()) + margin + mention.Block + "\n")
	}
	return b.String()
}

// Retired writes what became of a key that was retired.
func Retired(s Style, r *renewal.Retired, key *sshkey.Pair, tilde func(string) string) string {
	where := "Nothing was registered with a host."
	if len(r.Hosts) > 0 {
		where = "It is withdrawn from " + strings.Join(r.Hosts, ", ") + "."
	}
	text := s.Sentences(key.Name()+" is out of use, and its files are set aside. "+where) +
		s.forgetByHand(r.ByHand, key)
	if len(r.Left) > 0 {
		text += s.Sentences("These lines of yours still name it; remove them:") + s.mentions(r.Left, tilde)
	}
	return text
}

func mentionTexts(list []sshconfig.Mention) []string {
	texts := []string{}
	for _, mention := range list {
		texts = append(texts, mention.Origin.String())
	}
	return texts
}

// RenewedDocument makes the document of a renewal.
func RenewedDocument(r *renewal.Renewed, old *sshkey.Pair, change int) any {
	return document.Renewal{Schema: document.Schema("renewal"), OldKey: document.Path(old.Path),
		NewKey: document.Path(r.New.Path), RegisteredAt: document.List(r.Hosts),
		WithdrawOnWebPage: document.List(r.ByHand), Settings: mentionTexts(r.Left), Retired: r.Withdrawn,
		Change: document.Number(change)}
}

// RetiredDocument makes the document of a retirement.
func RetiredDocument(r *renewal.Retired, key *sshkey.Pair, change int) any {
	return document.Retirement{Schema: document.Schema("retirement"), Key: document.Path(key.Path),
		WithdrawnAt: document.List(r.Hosts), WithdrawOnWebPage: document.List(r.ByHand),
		Settings: mentionTexts(r.Left), Change: document.Number(change)}
}
