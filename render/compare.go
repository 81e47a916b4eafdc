package render

import (
	"strings"
	"time"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/registration"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/render/document"
)

// Compared writes the keys that are here against those that a host knows.
func Compared(s Style, list []registration.Compared, host string, now time.Time, tilde func(string) string) string {
	if len(list) == 0 {
		return s.Sentences("There is no key here, and " + host + " knows none.")
	}
	var rows [][]string
	for _, c := range list {
		row := []string{"", "only here", "", ""}
		if c.Pair != nil {
			row[0], row[2] = tilde(c.Pair.Path), s.tideLine(sshkey.Eye(c.Pair.Public))
		}
		if c.There != nil {
			row[1], row[2], row[3] = "only there", s.tideLine(sshkey.Eye(c.There.Key)), thereWord(c.There, now)
		}
		if c.Pair != nil && c.There != nil {
			row[1] = "both"
		}
		rows = append(rows, row)
	}
	return s.table([]string{"key", "where", "tide line", "at " + host}, rows)
}

// ComparedByTrying says how the answers were got, and what stays unknown.
func ComparedByTrying(s Style, host string, more bool) string {
	text := "\n" + s.Sentences(host+
		" lists no keys, so it was asked over SSH about each of yours. What it knows besides stays unknown.")
	if more {
		text += s.Sentences("There are more keys here: the host was asked about the first only.")
	}
	return text
}

// TakeAway says what a person is to take away, and where.
func TakeAway(s Style, pair *sshkey.Pair, host *describe.Description) string {
	where := "on the page where " + host.Name + " lists keys"
	if host.Pages.Keys != "" {
		where = "on " + host.Pages.Keys
	}
	return "Take " + pair.Name() + " away " + where + ". Its fingerprint is " + sshkey.Fingerprint(pair.Public) + "."
}

// thereWord says what the host tells of a key besides.
func thereWord(key *hostapi.RegisteredKey, now time.Time) string {
	var list []string
	if key.Title != "" {
		list = append(list, untrusted.Quote(untrusted.Clean(key.Title)))
	}
	if key.Access == hostapi.Read {
		list = append(list, "reads only")
	}
	if !key.Used.IsZero() {
		list = append(list, "used "+key.Used.Format(time.DateOnly))
	}
	if !key.Until.IsZero() {
		list = append(list, ends(key.Until, now))
	}
	return strings.Join(list, "; ")
}

// ends says when something ends or ended.
func ends(t, now time.Time) string {
	if t.Before(now) {
		return "expired " + age(t, now)
	}
	return "expires " + until(t, now)
}

// ComparedDocument makes the document of the keys here beside those that a host has.
func ComparedDocument(list []registration.Compared, host string) any {
	return document.Comparison{Schema: document.Schema("comparison"), Host: host, Keys: document.Map(list, comparedDoc)}
}

func comparedDoc(c registration.Compared) (d document.ComparedKey) {
	if c.Pair != nil {
		d.Path, d.Fingerprint = document.Text(document.Path(c.Pair.Path)), sshkey.Fingerprint(c.Pair.Public)
	}
	if c.There != nil {
		d.ID, d.Title, d.Fingerprint = document.Text(c.There.ID), document.Text(c.There.Title),
			sshkey.Fingerprint(c.There.Key)
		d.Until, d.LastUsed, d.Access = document.Time(c.There.Until), document.Time(c.There.Used),
			document.Text(string(c.There.Access))
	}
	return d
}
