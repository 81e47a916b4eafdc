package causes

import (
	"cmp"
	"net/url"
	"slices"
	"strings"

	"anchorage.example/unicrux/core/allow"
	"anchorage.example/unicrux/core/lazyregexp"
	"anchorage.example/unicrux/core/redact"
	"anchorage.example/unicrux/core/untrusted"
)

// MaxText bounds how much of a text is read, in bytes: the logs of a build may be longer, and
// what failed stands at their end.
const MaxText = 64 << 10

// A Cause is one that a text may have been made by.
type Cause struct {
	Code       Code
	Likelihood float64 // 0 to 1; those of one reading add up to 1 at most
	Summary    string
	Line       string   // of the text that speaks for it, cleaned, without secrets
	Confirm    []string // what would tell it from its rivals: sentences, and commands to run
	Mend       string   // what to do, in sentences; empty for nothing
	By         By       // who can
}

// A Reading is what a text says.
type Reading struct {
	Causes     []Cause // the most likely first; empty when nothing in the text is known
	Conclusive bool    // the text alone tells the first
	URL        string  // the clone URL in it, without any secret; empty for none
	Host       string  // the host that it names; empty for none
}

// Likelihoods below this are not worth telling, and from this on a text tells by itself.
const (
	faint = 0.04
	sure  = 0.84
)

// Explain names the causes that an error text of git, ssh or hg may have, the most likely
// first. The text may hold more than that: colours, what a build server puts before its lines,
// whole logs, messages in another language.
func Explain(text string) Reading {
	lines := tidy(text)
	read := Reading{URL: urlIn(lines), Host: hostIn(lines)}
	var guesses []guess
	whole := newWords(strings.Join(spoken(lines), "\n"))
	hosts := newWords(hostsPart(whole.text))
	for _, e := range catalogue {
		if weight, at := e.signs.weigh(whole, hosts); weight > 0 {
			guesses = append(guesses, guess{e, weight, at, lineAt(whole.text, at)})
		}
	}
	byOrder(guesses)
	// Of two that are as likely the one that stands earlier on the way is the cause.
	slices.SortStableFunc(guesses, func(a, b guess) int { return cmp.Compare(b.weight, a.weight) })
	weights := make([]float64, len(guesses))
	for i, g := range guesses {
		weights[i] = g.weight
	}
	for i, likelihood := range share(weights) {
		if likelihood < faint || i == maxCauses {
			break
		}
		g := guesses[i]
		read.Causes = append(read.Causes, Cause{Code: g.entry.code, Likelihood: likelihood, Summary: g.entry.summary,
			Line: g.line, Confirm: read.confirm(g.entry), Mend: read.mend(g.entry), By: g.entry.by})
	}
	read.Conclusive = len(read.Causes) > 0 && read.Causes[0].Likelihood >= sure &&
		(len(guesses) < 2 || guesses[1].weight < rival)
	return read
}

// A guess is a cause that a text may name.
type guess struct {
	entry  entry
	weight float64
	at     int // where in the text
	line   string
}

const maxCauses = 5

// share turns weights, the greatest first, into likelihoods: what the first leaves is for the others, and where it
// leaves too little for all, each gets its part. One that has a strong rival is not certain, however much speaks for
// it.
func share(weights []float64) []float64 {
	if len(weights) == 0 {
		return nil
	}
	var others, total float64
	for i, w := range weights {
		if total += w; i > 0 {
			others += w
		}
	}
	likelihoods := slices.Clone(weights)
	for i := range likelihoods {
		switch {
		case total <= 1:
		case weights[0] < sure || len(weights) > 1 && weights[1] >= rival:
			likelihoods[i] /= total
		case i > 0:
			likelihoods[i] *= (1 - weights[0]) / others
		}
	}
	return likelihoods
}

// hostWords is how likely words of a host mean what they say.
const hostWords = 0.9

// weigh finds the strongest sign of a cause in a text, and where it is. What hosts say counts in what they may have
// said alone.
func (s signs) weigh(whole, hosts words) (weight float64, at int) {
	if s.unless != "" && whole.find(s.unless) != nil {
		return 0, 0
	}
	for _, sign := range s.shown {
		if sign.weight <= weight {
			continue
		}
		if found := whole.find(sign.form); found != nil {
			weight, at = sign.weight, found[0]
		}
	}
	for _, form := range s.words {
		if found := hosts.find(form); found != nil && weight < hostWords {
			weight, at = hostWords, found[0]
		}
	}
	return weight, at
}

func lineAt(text string, at int) string {
	start := strings.LastIndexByte(text[:at], '\n') + 1
	line, _, _ := strings.Cut(text[start:], "\n")
	return untrusted.Clean(redact.Text(strings.TrimSuffix(line, " [elsewhere]")))
}

var (
	escapes  = lazyregexp.Late(`\x1b\[[0-9;?]*[A-Za-z]|\x1b\][^\x07\x1b]*(\x07|\x1b\\)`)
	prefixes = lazyregexp.Late(
		`^\s*(\d{4}-\d\d-\d\d[T ][\d:.,]+(Z|[+-]\d\d:?\d\d)?\s+|\[[^\]]{1,40}\]\s+|#\d+ +([\d.]+ +)?|[>|│┃]\s?|(stderr|stdout|err|out|error)\s*[:|]\s+|\d\d:\d\d:\d\d([.,]\d+)?\s+|\[\d\d:\d\d:\d\d\]\s*)`,
	)
)

// quotes are all one for the forms.
var quotes = strings.NewReplacer("’", "'", "‘", "'", "`", "'", "\u00a0", " ")

// tidy makes lines of a text: without colours, without what other programs put before each, in
// English, and with those joined that a narrow window has broken.
func tidy(text string) []string {
	if len(text) > MaxText {
		text = text[len(text)-MaxText:]
	}
	text = strings.ToValidUTF8(escapes().ReplaceAllString(text, ""), "")
	text = strings.NewReplacer("\r\n", "\n", "\r", "\n").Replace(text)
	var lines []string
	known := map[string]string{} // a log says many things over and over
	for _, line := range strings.Split(text, "\n") {
		for range 4 {
			line = line[len(prefixes().FindString(line)):]
		}
		if line = strings.TrimSpace(line); line != "" {
			if known[line] == "" {
				known[line] = elsewhere(quotes.Replace(english(line)))
			}
			lines = append(lines, known[line])
		}
	}
	return lines
}

var (
	accessed = lazyregexp.Late(
		`(?i)unable to access '(https?://[^']+)': .*(?:resolve host:? ([^ ;(]+)|failed to connect to (\S+) port (\d+))`,
	)
	ports = map[string]string{"http": "80", "https": "443"}
)

// elsewhere marks a line that tells of another host or port than the URL in it: a proxy, or where
// the host has sent git on.
func elsewhere(line string) string {
	parts := accessed().FindStringSubmatch(line)
	if parts == nil {
		return line
	}
	u, err := url.Parse(parts[1])
	if err != nil {
		return line
	}
	port := u.Port()
	if port == "" {
		port = ports[u.Scheme]
	}
	if allow.SameHost(u.Hostname(), parts[2]+parts[3]) && (parts[4] == "" || parts[4] == port) {
		return line
	}
	return line + " [elsewhere]"
}

var (
	cloneURL = lazyregexp.Late(`(?:https?|ssh|git)://[^\s'"<>]+|\b[\w.-]+@[\w.-]+\.[\w-]+:[\w~/][^\s'"<>]*`)
	hostName = lazyregexp.Late(
		`(?i)(?:[\w.-]+@([\w.-]+): permission denied|connect to host (\S+) port|resolve host(?:name)?:? (\S+?)(?::| \(|$)|host key for \[?([\w.-]+)|authenticity of host '([^' ]+)|connection (?:closed|reset) by ([\w.:-]+) port|failed to connect to (\S+) port)`,
	)
)

// urlIn finds the clone URL in a text, without any secret.
func urlIn(lines []string) string {
	for _, line := range lines {
		found := cloneURL().FindString(line)
		if found == "" {
			continue
		}
		found = strings.TrimRight(found, ".,:;)]/")
		for _, behind := range []string{"/info/refs", "/info/lfs"} { // what git and its large files ask for
			found, _, _ = strings.Cut(found, behind)
		}
		if !strings.Contains(found, "://") {
			return untrusted.Clean(found)
		}
		if u, err := url.Parse(found); err == nil && u.Path != "" {
			if _, set := u.User.Password(); set || (u.Scheme != "ssh" && u.User != nil) {
				u.User = nil
			}
			return untrusted.Clean(u.String())
		}
	}
	return ""
}

func hostIn(lines []string) string {
	for _, line := range lines {
		for _, name := range append(hostName().FindStringSubmatch(line), "", "")[1:] {
			if name != "" {
				return untrusted.Clean(name)
			}
		}
		if u, err := url.Parse(urlIn([]string{line})); err == nil && u.Host != "" {
			return untrusted.Clean(u.Hostname())
		}
	}
	return ""
}

// Where is what the text is about, as "check" takes it: a URL or a host; empty where it does not say.
func (r Reading) Where() string {
	for _, where := range []string{r.URL, r.Host} {
		if where != "" && !strings.HasPrefix(where, "-") {
			return where
		}
	}
	return ""
}

// confirm says what would tell a cause from its rivals. Going the way tells them all apart.
func (r Reading) confirm(e entry) []string {
	var list []string
	if e.signs.tell != "" {
		list = append(list, e.signs.tell)
	}
	if e.stage == Beyond {
		return list
	}
	command := "unicrux check"
	if where := r.Where(); where != "" {
		command += " " + where
	}
	if e.stage == Permission {
		command += " --for push"
	}
	return append(list, command)
}

// mend is that of the catalogue, in the words of the text.
func (r Reading) mend(e entry) string { return inWords(e.mend, r.Host, "your account", r.URL) }

// CloneURL is the first clone URL in a text that holds more; empty for none.
func CloneURL(text string) string { return strings.TrimRight(cloneURL().FindString(text), "”’") }
