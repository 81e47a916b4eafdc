package render

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"anchorage.example/unicrux/core/chest"
	"anchorage.example/unicrux/core/find"
	"anchorage.example/unicrux/core/look"
	"anchorage.example/unicrux/core/plainsecrets"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/render/document"
)

// Look opens with where one stands, then who opens what, what is unsafe, and what to do next.
func Look(s Style, v *look.View, now time.Time, tilde func(string) string) string {
	text := s.Sentences(standing(v))
	if words := danger(v); words != "" {
		text += s.Sentences(words)
	}
	if len(v.Keys)+len(v.Tokens) > 0 {
		text += "\n" + s.whoOpensWhat(v, tilde)
	}
	if len(v.Tokens) > 0 {
		text += "\n" + s.ends(v.Tokens, now)
	}
	if len(v.Unsafe)+len(v.Plain) > 0 {
		text += "\n" + s.unsafe(v, tilde)
	}
	if v.Lends != "" {
		text += Careful(s, []string{"ForwardAgent in " + tilde(v.Lends) +
			" forwards your agent to every host: whoever runs one can sign in as you while you are connected. Set it for single hosts, or not at all."})
	}
	words, command := nextStep(v, now, tilde)
	return text + "\n" + s.Sentences(words) + CommandLine(s, command...)
}

func standing(v *look.View) string {
	if len(v.Keys)+len(v.Hosts) == 0 {
		return "Nothing is here yet: no key, and no host is described."
	}
	settled := 0
	for _, host := range v.Hosts {
		if host.Settled() {
			settled++
		}
	}
	text := capital(count(len(v.Keys), "key", "keys")) + " and " + count(len(v.Hosts), "described host",
		"described hosts") + " here"
	switch {
	case len(v.Hosts) == 0:
		return text + "."
	case settled == len(v.Hosts) && len(untried(v)) == 0:
		return text + ", all settled: each has a stored host key and a key that it accepts, or a token."
	case settled == len(v.Hosts):
		return text + ", all settled. Whether the key opens " + strings.Join(untried(v), ", ") + " was never tried."
	case settled == 0:
		return text + ", none of them settled."
	}
	return fmt.Sprintf("%s, %d of them settled.", text, settled)
}

// untried are the hosts that are settled with a key alone, and that were never seen to accept it.
func untried(v *look.View) []string {
	var names []string
	for _, host := range v.Hosts {
		known := func(i int) bool { return slices.Contains(v.Keys[i].KnownAt, host.Description.Name) }
		if host.Settled() && !host.Token && !slices.ContainsFunc(host.Offers, known) {
			names = append(names, host.Description.Name)
		}
	}
	return names
}

// danger says how much is unsafe.
func danger(v *look.View) string {
	keys := map[int]bool{}
	for _, finding := range v.Unsafe {
		keys[finding.Key] = true
	}
	switch len(keys) {
	case 0:
		return ""
	case 1:
		return "One key needs care."
	}
	return fmt.Sprintf("%d keys need care.", len(keys))
}

func capital(text string) string { return strings.ToUpper(text[:1]) + text[1:] }

// whoOpensWhat is a matrix of keys and tokens against hosts: what ssh would offer to whom. Where the terminal is too
// narrow for it, even without what else there is to say of a key, each host has a line.
func (s Style) whoOpensWhat(v *look.View, tilde func(string) string) string {
	heads := []string{"key", "tide line", "passphrase", "in agent"}
	for _, host := range v.Hosts {
		heads = append(heads, host.Description.Name)
	}
	rows := s.matrix(v, tilde)
	if lines, fits := s.fitting(heads, rows, "in agent", "tide line", "passphrase"); fits {
		return strings.Join(lines, "")
	}
	return s.opensEach(v, tilde)
}

func (s Style) matrix(v *look.View, tilde func(string) string) (rows [][]string) {
	for i, key := range v.Keys {
		row := []string{keyWord(key, tilde), s.eye(key.Pair), yesNo(key.Pair.Locked), yesNo(key.InAgent)}
		for _, host := range v.Hosts {
			row = append(row, offerWord(host, i))
		}
		rows = append(rows, row)
	}
	for _, token := range v.Tokens {
		row := []string{"token " + token.Name, "", "", ""}
		for _, host := range v.Hosts {
			word := ""
			if serves(token, host) {
				word = orDash(strings.Join(token.Purposes, ", "))
			}
			row = append(row, word)
		}
		rows = append(rows, row)
	}
	if len(v.Hosts) == 0 {
		return rows
	}
	trusted := []string{"the host's own key", "", "", ""}
	for _, host := range v.Hosts {
		trusted = append(trusted, hostKeyWord(host))
	}
	return append(rows, trusted)
}

// serves reports whether git would get a token for a host.
func serves(token chest.Entry, host look.Host) bool {
	return host.Description.HTTPSAt() == token.At &&
		(host.Description.ForAccount == "" || host.Description.Name == token.Host)
}

// opensEach says of each host what opens it, and of keys that open none that they are here.
func (s Style) opensEach(v *look.View, tilde func(string) string) string {
	var rows []row
	width, idle := columns("no host"), []string{}
	used := map[int]bool{}
	for _, host := range v.Hosts {
		var list []string
		for _, i := range host.Offers {
			used[i] = true
			list = append(list, keyWord(v.Keys[i], tilde))
		}
		for _, token := range v.Tokens {
			if serves(token, host) {
				list = append(list, "token "+token.Name)
			}
		}
		if len(list) == 0 {
			list = []string{"nothing"}
		}
		width = max(width, columns(host.Description.Name))
		rows = append(rows, row{label: host.Description.Name, tone: bold,
			text: strings.Join(list, ", ") + "; the host's own key is " + hostKeyWord(host)})
	}
	for i, key := range v.Keys {
		if !used[i] {
			idle = append(idle, keyWord(key, tilde))
		}
	}
	if len(idle) > 0 {
		rows = append(rows, row{label: "no host", tone: grey, text: strings.Join(idle, ", ")})
	}
	return s.block(width, rows)
}

func offerWord(host look.Host, key int) string {
	for turn, i := range host.Offers {
		if i == key && turn == 0 {
			return "offered"
		} else if i == key {
			return fmt.Sprintf("offered, as number %d", turn+1)
		}
	}
	return ""
}

func yesNo(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

func (s Style) unsafe(v *look.View, tilde func(string) string) string {
	var rows []row
	for _, finding := range v.Unsafe {
		rows = append(rows, row{label: "careful", tone: ochre,
			text: fmt.Sprintf(riskWords[finding.Risk], tilde(v.Keys[finding.Key].Pair.Path))})
	}
	for _, words := range plainFiles(v.Plain, tilde) {
		rows = append(rows, row{label: "careful", tone: ochre, text: words})
	}
	return s.block(7, rows)
}

// plainFiles says of each file that it has secrets for hosts in it.
func plainFiles(list []plainsecrets.Stray, tilde func(string) string) []string {
	var files, texts []string
	counts := map[string]int{}
	for _, stray := range list {
		if counts[stray.File]++; counts[stray.File] == 1 {
			files = append(files, stray.File)
		}
	}
	for _, file := range files {
		them := "them"
		if counts[file] == 1 {
			them = "it"
		}
		texts = append(texts, fmt.Sprintf("%s has %s for hosts in plain text: whoever reads it can use %s.",
			tilde(file), count(counts[file], "secret", "secrets"), them))
	}
	return texts
}

// LookHosts writes of each described host what ssh would do for it.
func LookHosts(s Style, v *look.View, tilde func(string) string) string {
	if len(v.Hosts) == 0 {
		return s.Sentences("No host is described here.") + otherHosts(s, v.Others)
	}
	var rows [][]string
	for _, host := range v.Hosts {
		var offers []string
		for _, i := range host.Offers {
			offers = append(offers, keyWord(v.Keys[i], tilde))
		}
		if host.Others > 0 {
			offers = append(offers, count(host.Others, "key", "keys")+" of the agent")
		}
		if len(offers) == 0 {
			offers = []string{"none"}
		}
		rows = append(rows, []string{host.Description.Name, host.Description.HostName(), hostKeyWord(host),
			strings.Join(offers, ", ")})
	}
	heads := []string{"host", "name in clone URLs", "host's own key", "keys that ssh would offer"}
	return s.tableWithout(heads, rows, "name in clone URLs") +
		otherHosts(s, v.Others)
}

// mostOthers bounds how many hosts that nobody has described are listed: known hosts may have thousands.
const mostOthers = 12

// otherHosts lists hosts that something here names and that nobody has described.
func otherHosts(s Style, list []look.Other) string {
	if len(list) == 0 {
		return ""
	}
	var rows [][]string
	for _, other := range list[:min(len(list), mostOthers)] {
		rows = append(rows, []string{untrusted.Clean(other.Name), strings.Join(other.From, ", ")})
	}
	if more := len(list) - mostOthers; more > 0 {
		rows = append(rows, []string{fmt.Sprintf("and %d more", more), ""})
	}
	return "\n" + s.table([]string{"not described", "known from"}, rows) +
		s.Sentences("With a clone URL there, unicrux ready URL learns such a host.")
}

func hostKeyWord(host look.Host) string {
	if host.Trusted {
		return "stored"
	}
	return "not stored"
}

// nextStep is the one command that helps most: first what is exposed, then hosts that are
// not settled, then what could be safer.
func nextStep(v *look.View, now time.Time, tilde func(string) string) (words string, command []string) {
	for _, finding := range v.Unsafe {
		if finding.Risk == find.Exposed {
			return "Let nobody else read the key:", []string{"chmod", "600", tilde(v.Keys[finding.Key].Pair.Path)}
		}
	}
	for _, token := range v.Tokens {
		if token.EndsSoon(now) {
			return "Renew the token " + token.Name + ", which " + ends(token.Until, now) + ":",
				[]string{"unicrux", "token", "renew", token.Name}
		}
	}
	if v.Closed {
		return "The chest is closed, so git gets no token. To open it for a working day:",
			[]string{"unicrux", "chest", "open"}
	}
	if len(v.Hosts) == 0 {
		return "With a clone URL of any host:", []string{"unicrux", "ready", "URL"}
	}
	for _, host := range v.Hosts {
		if !host.Settled() {
			return "Make " + host.Description.Name + " ready:", []string{"unicrux", "ready", host.Description.Name}
		}
	}
	if slices.ContainsFunc(v.Plain, plainsecrets.Stray.Movable) {
		return "Move the secrets out of plain files, into the chest:", []string{"unicrux", "chest", "adopt"}
	}
	for _, finding := range v.Unsafe {
		if finding.Risk == find.Unlocked {
			return "Give the key a passphrase:", []string{
				"unicrux",
				"key",
				"passphrase",
				keyWord(v.Keys[finding.Key], tilde),
			}
		}
	}
	for _, host := range v.Hosts {
		if host.Trusted && len(host.Offers)+host.Others > 0 {
			return "Try whether it works:", []string{"unicrux", "check", host.Description.Name}
		}
		if host.Token {
			return "Try whether it works:", []string{"unicrux", "check", host.Description.Name, "--by", "https"}
		}
	}
	return "See whether the tokens are good:", []string{"unicrux", "token", "test", v.Tokens[0].Name}
}

// keyWord is how a key is named on a command line: by its name alone in the ssh folder.
func keyWord(key look.Key, tilde func(string) string) string {
	if key.Odd {
		return tilde(key.Pair.Path)
	}
	return key.Pair.Name()
}

// LookDocument makes the document of what is on this workstation; known is what is stored of host keys, nil where that
// was not asked for.
func LookDocument(v *look.View, known *document.KnownHosts, now time.Time) any {
	d := document.Look{Schema: document.Schema("look"), KnownHosts: known,
		Keys: document.Map(v.Keys, lookKey), Hosts: []document.LookHost{}, Undescribed: []document.Undescribed{},
		Tokens: document.Map(v.Tokens, tokenDoc), Agents: document.Map(v.Agents, agentDoc),
		Unsafe: []document.Unsafe{}, AgentForwardedEverywhere: document.Text(v.Lends),
		Secrets: document.Map(v.Plain, plainDoc)}
	for _, host := range v.Hosts {
		entry := document.LookHost{Name: host.Description.Name, Trusted: host.Trusted, OnlyInAgent: host.Others,
			Offers: []document.Path{}}
		for _, i := range host.Offers {
			entry.Offers = append(entry.Offers, document.Path(v.Keys[i].Pair.Path))
		}
		d.Hosts = append(d.Hosts, entry)
	}
	for _, other := range v.Others {
		d.Undescribed = append(d.Undescribed, document.Undescribed{Name: other.Name,
			KnownFrom: document.List(other.From)})
	}
	for _, finding := range v.Unsafe {
		d.Unsafe = append(d.Unsafe, document.Unsafe{Risk: string(finding.Risk),
			Path: document.Path(v.Keys[finding.Key].Pair.Path)})
	}
	summary, command := nextStep(v, now, func(path string) string { return path })
	d.Next = document.Next{Summary: strings.TrimSuffix(summary, ":") + ".", Command: document.List(command)}
	return d
}

func lookKey(key look.Key) document.LookKey {
	d := document.LookKey{Path: document.Path(key.Pair.Path), HasPassphrase: key.Pair.Locked, InAgent: key.InAgent}
	if key.Pair.Public != nil {
		d.Fingerprint = sshkey.Fingerprint(key.Pair.Public)
	}
	return d
}
