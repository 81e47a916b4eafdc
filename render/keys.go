package render

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/render/document"
)

// A KeyView is a key pair with what the reader needs to know where it is.
type KeyView struct {
	Pair *sshkey.Pair
	Path string // as it is shown
	Now  time.Time

	Looked   bool     // at its use, which the next fields tell
	Settings []string // that point to it: what block, and where it stands
	KnownAt  []string // hosts
	Held     bool     // by an agent
}

// uses says in one line what becomes of the pair.
func (v KeyView) uses() string {
	var list []string
	if len(v.Settings) > 0 {
		list = append(list, "used by "+strings.Join(v.Settings, ", "))
	}
	if len(v.KnownAt) > 0 {
		list = append(list, "known at "+strings.Join(v.KnownAt, ", "))
	}
	if v.Held {
		list = append(list, "held unlocked")
	}
	if len(list) == 0 {
		return "no setting names it, and it was not registered with a host from here"
	}
	return strings.Join(list, "; ")
}

func (v KeyView) usesAndCertificate() string {
	if text := v.certificate(); text != "" {
		return v.uses() + "; certificate " + text
	}
	return v.uses()
}

// certificate says for whom the certificate beside the pair is, and until when; empty where there is none.
func (v KeyView) certificate() string {
	certificate := v.Pair.Certificate
	if certificate == nil {
		return ""
	}
	names := untrusted.Clean(strings.Join(certificate.ValidPrincipals, ", "))
	if names == "" {
		names = "nobody"
	}
	from, until := sshkey.CertificateTimes(certificate)
	switch text := "for " + names; {
	case v.Now.Before(from):
		return text + ", not valid before " + from.Format(time.DateTime)
	case until.IsZero():
		return text + ", without expiry"
	case !v.Now.Before(until):
		return text + ", expired " + until.Format(time.DateTime)
	default:
		return text + ", until " + until.Format(time.DateTime)
	}
}

func (v KeyView) kind() string {
	if v.Pair.Public == nil {
		return "unknown"
	}
	kind := sshkey.Kind(v.Pair.Public)
	if bits := sshkey.Bits(v.Pair.Public); kind != "ed25519" && bits > 0 {
		kind = fmt.Sprintf("%s %d", kind, bits)
	}
	return kind
}

func (v KeyView) fingerprint() string {
	if v.Pair.Public == nil {
		return ""
	}
	return sshkey.Fingerprint(v.Pair.Public)
}

func (v KeyView) lock() string {
	if v.Pair.Locked {
		return "yes"
	}
	return "no"
}

// The heights of a tide line, from the lowest.
var (
	tideBlocks = []rune("▁▂▃▄▅▆▇█")
	tideASCII  = []rune("_.,-~=*#")
)

// tideGroup is how many columns of a tide line are together, as in a telephone number: so it can be read aloud, and
// rows do not fuse.
const tideGroup = 4

// eye draws the pattern by which a key is recognised; docs/tide-line.md says what it means.
func (s Style) eye(pair *sshkey.Pair) string {
	if pair.Public == nil {
		return ""
	}
	return s.tideLine(sshkey.Eye(pair.Public))
}

func (s Style) tideLine(levels [sshkey.EyeColumns]int) string {
	heights := tideASCII
	if s.Lines {
		heights = tideBlocks
	}
	var b strings.Builder
	for i, level := range levels {
		if i > 0 && i%tideGroup == 0 {
			b.WriteByte(' ')
		}
		b.WriteRune(heights[level])
	}
	return b.String()
}

// age says how long ago a day was, and which.
func age(t, now time.Time) string {
	days := int(now.Sub(t).Hours() / 24)
	switch day := t.Format("2006-01-02"); {
	case days < 1:
		return "today (" + day + ")"
	case days < 60:
		return count(days, "day", "days") + " ago (" + day + ")"
	case days < 730:
		return fmt.Sprintf("%d months ago (%s)", days/30, day)
	default:
		return fmt.Sprintf("%d years ago (%s)", days/365, day)
	}
}

// Key writes all about one pair.
func Key(s Style, v KeyView) string {
	rows := []row{
		{label: "key", tone: bold, lines: []string{v.Pair.Name()}},
		{label: "type", tone: grey, lines: []string{v.kind()}},
		{label: "fingerprint", tone: grey, lines: []string{v.fingerprint()}},
		{label: "tide line", tone: grey, lines: []string{s.eye(v.Pair)}},
		{label: "passphrase", tone: grey, lines: []string{v.lock()}},
		{label: "comment", tone: grey, lines: []string{v.Pair.Comment}},
		{label: "private", tone: grey, lines: []string{v.Path}},
	}
	if v.Pair.Alone {
		private := func(r row) bool { return r.label == "passphrase" || r.label == "private" }
		rows = append(slices.DeleteFunc(rows, private), row{label: "public", tone: grey, lines: []string{v.Path}})
	}
	if v.Pair.HasPublic {
		rows = append(rows, row{label: "public", tone: grey, lines: []string{v.Path + ".pub"}})
	}
	if text := v.certificate(); text != "" {
		rows = append(rows, row{label: "certificate", tone: grey, text: text})
	}
	if v.Looked && !v.Pair.Alone {
		rows = append(rows, row{label: "use", tone: grey, text: v.uses()})
	}
	rows = append(rows, row{label: "changed", tone: grey, lines: []string{age(v.Pair.Modified, v.Now)}})
	text := s.block(11, rows)
	if v.Pair.PublicBad != nil {
		text += "\n" + s.block(11,
			[]row{{label: "careful", tone: ochre,
				text: "The file " + v.Path + ".pub does not serve: " + v.Pair.PublicBad.Error() + "."}})
	}
	return text
}

// Keys writes a table of pairs, each with its fingerprint below, and at the end the files
// that cannot be read.
func Keys(s Style, views []KeyView, unreadable []string) string {
	heads := []string{"key", "type", "passphrase", "tide line", "changed", "comment"}
	var rows [][]string
	var whole []string // each key by itself, for narrow terminals
	for _, v := range views {
		rows = append(rows, []string{v.Pair.Name(), v.kind(), v.lock(), s.eye(v.Pair), age(v.Pair.Modified, v.Now),
			v.Pair.Comment})
		whole = append(whole, Key(s, v))
	}
	lines, fits := s.fitting(heads, rows, "comment", "changed")
	text := strings.Join(whole, "\n")
	if fits {
		text = lines[0]
		for i, line := range lines[1:] {
			text += line + margin + margin + s.paint(grey, views[i].fingerprint()) + "\n" +
				s.block(0, []row{{text: views[i].usesAndCertificate(), tone: grey}})
		}
	}
	return text + Careful(s, unreadable)
}

func certificateDoc(certificate *ssh.Certificate) *document.Certificate {
	if certificate == nil {
		return nil
	}
	from, until := sshkey.CertificateTimes(certificate)
	return &document.Certificate{Principals: document.List(certificate.ValidPrincipals),
		ValidFrom: document.Time(from), Until: document.Time(until),
		Authority: sshkey.Fingerprint(certificate.SignatureKey), ID: certificate.KeyId}
}

func keyDoc(v KeyView) document.Key {
	d := document.Key{Name: v.Pair.Name(), Path: document.Path(v.Pair.Path), Comment: v.Pair.Comment,
		HasPassphrase: v.Pair.Locked, Settings: document.List(v.Settings), KnownAt: document.List(v.KnownAt),
		InAgent: v.Held, Modified: document.Time(v.Pair.Modified), Fingerprint: v.fingerprint(),
		Certificate: certificateDoc(v.Pair.Certificate)}
	if v.Pair.Public != nil {
		d.Type, d.Bits = sshkey.Kind(v.Pair.Public), sshkey.Bits(v.Pair.Public)
		d.PublicLine = sshkey.Line(v.Pair.Public, v.Pair.Comment)
	}
	return d
}

// KeyDocument makes the document of one pair; change is the number of the change that made
// it, or 0.
func KeyDocument(v KeyView, change int) any {
	return document.KeyAlone{Schema: document.Schema("key"), Key: keyDoc(v), Change: document.Number(change)}
}

// KeysDocument makes the document of a list of pairs.
func KeysDocument(views []KeyView, unreadable []string) any {
	return document.Keys{Schema: document.Schema("keys"), Keys: document.Map(views, keyDoc),
		Unreadable: document.List(unreadable)}
}

// LoadedDocument makes the document of a key in agents; until is zero for one that the agents no longer hold.
func LoadedDocument(key string, sockets []string, until time.Time, change int) any {
	return document.AgentKey{Schema: document.Schema("agent-key"), Key: document.Path(key),
		AgentSockets: document.Map(sockets, func(socket string) document.Path { return document.Path(socket) }),
		Held:         !until.IsZero(), Until: document.Time(until), Change: document.Number(change)}
}
