package render

import (
	"math"
	"strings"
	"time"

	"anchorage.example/unicrux/core/chest"
	"anchorage.example/unicrux/core/gitanswer"
	"anchorage.example/unicrux/core/oauth"
	"anchorage.example/unicrux/core/origin"
	"anchorage.example/unicrux/core/tokens"
	"anchorage.example/unicrux/core/trial"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/render/document"
)

// OtherPlaces holds the places for which a token was kept against those to which it would go now.
func OtherPlaces(s Style, e chest.Entry, now []origin.Place) string {
	texts := func(places []origin.Place) (list []string) {
		for _, p := range places {
			list = append(list, p.String())
		}
		return list
	}
	return s.Sentences("The description of "+e.Host+" names another place than when the token "+e.Name+" was stored.") +
		s.block(12, []row{{label: "stored for", tone: grey, lines: texts(e.Places)},
			{label: "leads to now", tone: ochre, lines: texts(now)}}) + "\n"
}

// KeptToken says that a token is in the chest, whose it is and what it may do.
func KeptToken(s Style, e chest.Entry, proven *tokens.Proven, now time.Time) string {
	texts := []string{"The token " + e.Name + " is in the chest, and git gets it from there by itself."}
	switch {
	case proven == nil || proven.How == "":
		texts = append(texts, "It could not be tested: the description of "+e.Host+
			" does not say how. The first clone or push will show.")
	case proven.Account != "":
		texts = append(texts, "Tested by "+proven.How+": it is "+untrusted.Clean(proven.Account)+"'s.")
	default:
		texts = append(texts, "Tested by "+proven.How+".")
	}
	return s.Sentences(texts...) + "\n" + Token(s, e, now)
}

// Token tells what is known about one.
func Token(s Style, e chest.Entry, now time.Time) string {
	rows := []row{
		{label: "token", tone: bold, lines: []string{e.Name}},
		{label: "for", tone: grey, lines: []string{"https://" + e.At + "/" + e.Path}},
		{label: "account", tone: grey, lines: []string{orDash(untrusted.Clean(e.Account))}},
		{label: "purposes", tone: grey, lines: []string{orDash(strings.Join(e.Purposes, ", "))}},
	}
	if len(e.Scopes) > 0 {
		rows = append(rows, row{label: "scopes", tone: grey, text: untrusted.Clean(strings.Join(e.Scopes, ", "))})
	}
	rows = append(rows, row{label: "made", tone: grey, lines: []string{whenOr(e.Made, now, "not known")}},
		row{label: "expires", tone: endTone(e, now), lines: []string{tokenEnd(e, now)}},
		row{label: "proved", tone: grey, lines: []string{whenOr(e.Proved, now, "never")}},
		row{label: "kept", tone: grey, lines: []string{string(e.Kind)}})
	return s.block(8, rows)
}

func orDash(text string) string {
	if text == "" {
		return "not known"
	}
	return text
}

func whenOr(t, now time.Time, otherwise string) string {
	if t.IsZero() {
		return otherwise
	}
	return age(t, now)
}

func endTone(e chest.Entry, now time.Time) tone {
	switch {
	case !e.EndsSoon(now):
		return grey
	case e.Until.Before(now):
		return rose
	}
	return ochre
}

func tokenEnd(e chest.Entry, now time.Time) string {
	switch {
	case e.Signed:
		return "renews itself"
	case e.Until.IsZero():
		return "expiry not known"
	case e.Until.Before(now):
		return "expired " + age(e.Until, now)
	}
	return until(e.Until, now)
}

// Tokens writes a table of what is in the chest.
func Tokens(s Style, list []chest.Entry, now time.Time) string {
	if len(list) == 0 {
		return s.Sentences(
			"There are no tokens in the chest. To get one: unicrux token new HOST, or unicrux token add HOST.",
		)
	}
	heads := []string{"token", "host", "account", "for", "made", "expires", "proved", "kept"}
	var rows [][]string
	for _, e := range list {
		host := e.Host
		if host == "" { // not a described one
			host = e.At
		}
		rows = append(rows, []string{e.Name, host, orDash(untrusted.Clean(e.Account)),
			orDash(strings.Join(e.Purposes, ", ")),
			day(e.Made), tokenEnd(e, now), day(e.Proved), string(e.Kind)})
	}
	return s.tableWithout(heads, rows, "made", "kept", "proved", "account", "host")
}

// day is a date in a column of dates.
func day(t time.Time) string {
	if t.IsZero() {
		return "never"
	}
	return t.Format(time.DateOnly)
}

// Saying says something in the midst of another program's output: the command stands alone.
func Saying(s Style, said gitanswer.Saying) string {
	if said.Message == "" {
		return ""
	}
	text := s.Sentences(untrusted.Clean(said.Message))
	if len(said.Command) > 0 {
		text += CommandLine(s, said.Command...)
	}
	return text
}

// Foresight speaks of the end of a token.
func Foresight(s Style, e chest.Entry, now time.Time) string {
	return Saying(s, gitanswer.Saying{Message: "The token " + e.Name + " " + ends(e.Until, now) + ". To renew it:",
		Command: []string{"unicrux", "token", "renew", e.Name}})
}

// LookTokens is the table of tokens, and what ends when.
func LookTokens(s Style, list []chest.Entry, now time.Time) string {
	text := Tokens(s, list, now)
	if len(list) > 0 {
		text += "\n" + s.ends(list, now)
	}
	return text
}

// shore is how many columns the line of time has, where there is room; with fewer than shortest it is not drawn.
const shore, shortest = 32, 8

// ends draws what ends when on a line of time: from now to the last end, each token with a
// line of its own, as far as it is away, below a scale.
func (s Style) ends(list []chest.Entry, now time.Time) string {
	var last time.Time
	label, text := columns(endsHead), 0
	for _, e := range list {
		label, text = max(label, columns(e.Name)), max(text, columns(tokenEnd(e, now)))
		if !e.Signed && e.Until.After(last) {
			last = e.Until
		}
	}
	length := min(shore, s.width()-len(margin)-label-2-text-3)
	rows := []row{{label: endsHead, tone: bold, lines: []string{s.paint(grey, scale(last.Sub(now), length))}}}
	for _, e := range list {
		tone := endTone(e, now)
		r := row{label: e.Name, tone: tone, lines: []string{tokenEnd(e, now)}}
		if length >= shortest {
			drawn := s.far(e, now, last, length)
			r.lines[0] = s.paint(tone, drawn) + strings.Repeat(" ", length+3-columns(drawn)) + r.lines[0]
		}
		rows = append(rows, r)
	}
	return s.block(label, rows)
}

// far draws how far the end of a token is away on a line of time of a length.
func (s Style) far(e chest.Entry, now, last time.Time, length int) string {
	line, mark := "-", "|"
	if s.Lines {
		line, mark = "─", "┤"
	}
	if e.Signed || e.Until.IsZero() {
		return strings.Repeat(line, length+1)
	}
	far := length
	if last.After(now) {
		far = max(0, int(float64(length)*e.Until.Sub(now).Hours()/last.Sub(now).Hours()))
	}
	return strings.Repeat(line, far) + mark
}

// endsHead is the label of the line of time.
const endsHead = "expires"

// scale writes above a line of time how far its middle and its end are away.
func scale(whole time.Duration, length int) string {
	days := int(math.Round(whole.Hours() / 24))
	switch {
	case length < shortest:
		return ""
	case days < 2 || length < shore/2:
		return "now"
	}
	half := days / 2
	middle, end := count(half, "day", "days"), count(days, "day", "days")
	left := pad("now", length*half/days-columns(middle)/2) + middle
	return pad(left, length+1-columns(end)) + end
}

// TestedToken says what the host tells about a token, beside what it was made for.
func TestedToken(s Style, e chest.Entry, proven *tokens.Proven, tried *trial.Tried, lacks []string,
	now time.Time) string {
	text := "The token " + e.Name + " is good"
	switch {
	case proven.How == "":
		text = "The token " + e.Name + " could not be tested: the description of " + e.Host +
			" does not say how. Give the URL of a repository there (--url), and git's own requests for it are made"
	case proven.Account != "":
		text += ", and it is " + untrusted.Clean(proven.Account) + "'s"
	}
	texts := []string{text + "."}
	if tried != nil {
		texts = append(texts, triedText(tried))
	}
	if len(lacks) > 0 {
		texts = append(texts, "It was made for "+strings.Join(e.Purposes, ", ")+", and may not: "+strings.Join(lacks,
			", ")+". To make one that may: unicrux token new "+e.Host+" --for "+strings.Join(e.Purposes, ",")+".")
	}
	return s.Sentences(texts...) + "\n" + Token(s, e, now)
}

func triedText(t *trial.Tried) string {
	switch {
	case t.Writes:
		return "As git would ask for " + t.URL + ": it may read and write there."
	case t.Reads:
		return "As git would ask for " + t.URL + ": it may read there, and not write. " + t.Refused
	}
	return "As git would ask for " + t.URL + ": it opens nothing there. " + t.Refused
}

// RenewedToken says that the new one is in its place.
func RenewedToken(s Style, e chest.Entry, now time.Time) string {
	return s.Sentences("The token "+e.Name+
		" is renewed: the new one was proved, and only then the old one given up.") + "\n" + Token(s, e, now)
}

// SignInPrompt shows the code large, and where to enter it.
func SignInPrompt(s Style, p *oauth.Prompt, host string) string {
	code := strings.Join(strings.Split(untrusted.Clean(p.Code), ""), " ")
	text := "\n" + s.Sentences("To sign in to "+host+", open this address in a browser, on any screen:") +
		margin + untrusted.Clean(p.Page) + "\n\n" + s.Sentences("and enter this code there:") + "\n" + margin +
		margin + s.paint(bold, code) + "\n\n"
	if p.Direct != "" {
		text += s.Sentences("The same in one:") + margin + untrusted.Clean(p.Direct) + "\n\n"
	}
	return text + s.Sentences("Compare the code before you agree. Waiting until "+p.Expires.Local().Format("15:04")+
		". Ctrl-C ends the waiting.")
}

// BrowserPrompt says where to sign in by a browser on this computer.
func BrowserPrompt(s Style, page, host string) string {
	return "\n" + s.Sentences("To sign in to "+host+", open this address in a browser on this computer:") + margin +
		untrusted.Clean(page) + "\n\n" +
		s.Sentences("Waiting for ten minutes. Ctrl-C ends the waiting.")
}

func tokenDoc(e chest.Entry) document.Token {
	return document.Token{Name: e.Name, Host: e.Host, URLHost: e.At, Account: document.Text(e.Account),
		Purposes: document.List(e.Purposes), Scopes: document.List(e.Scopes), Made: document.Time(e.Made),
		Until: document.Time(e.Until), Proved: document.Time(e.Proved), RenewsItself: e.Signed,
		StoredIn: string(e.Kind)}
}

// TokenDocument makes the document of one token.
func TokenDocument(e chest.Entry, change int) any {
	return document.TokenAlone{Schema: document.Schema("token"), Token: tokenDoc(e), Change: document.Number(change)}
}

// TokensDocument makes the document of a list of tokens.
func TokensDocument(list []chest.Entry) any {
	return document.Tokens{Schema: document.Schema("tokens"), Tokens: document.Map(list, tokenDoc)}
}

// TestedTokenDocument makes the document of what trying a token showed.
func TestedTokenDocument(e chest.Entry, proven *tokens.Proven, tried *trial.Tried, lacks []string) any {
	d := document.TokenTest{Schema: document.Schema("token-test"), TestedBy: document.Text(proven.How),
		Lacks: document.List(lacks), Token: tokenDoc(e)}
	if works := proven.How != ""; works {
		d.Works = &works
	}
	if tried != nil {
		d.Tried = &document.TriedRequests{URL: tried.URL, Reads: tried.Reads, Writes: tried.Writes,
			Refused: document.Text(tried.Refused)}
	}
	return d
}
