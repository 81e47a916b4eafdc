package render

import (
	"crypto/x509"
	"encoding/base64"
	"fmt"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/origin"
	"anchorage.example/unicrux/core/registration"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/trust"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/core/workstation"
	"anchorage.example/unicrux/render/document"
)

// Host writes all about one described host.
func Host(s Style, d *describe.Description) string {
	rows := []row{
		{label: "host", tone: bold, lines: []string{d.Name}},
		{label: "title", tone: grey, lines: []string{d.Title}},
		reached(d, "ssh"),
	}
	if d.SSH.Address != "" {
		rows = append(rows, row{label: "address", tone: grey, lines: []string{d.SSH.Address}})
	}
	if d.Interface.URL != "" {
		rows = append(rows, row{label: "API", tone: grey, lines: []string{d.Interface.URL}})
	}
	if d.Managed != "" {
		rows = append(rows, row{label: "kept", tone: grey, text: "by this machine's administrator, for everybody, in " +
			d.Managed})
	}
	return s.block(9, append(rows, row{label: "can", tone: grey, text: abilities(d)}))
}

// reached says how git reaches a host: over SSH where it can.
func reached(d *describe.Description, label string) row {
	if !d.HasSSH() {
		return row{label: "https", tone: grey, lines: []string{d.HTTPS.URL}}
	}
	return row{label: label, tone: grey,
		lines: []string{fmt.Sprintf("%s@%s port %d", d.SSH.User, d.SSH.Host, d.Port())}}
}

// Source says what a description names that came from elsewhere.
func Source(s Style, source hosts.Source) string {
	d := source.Description
	rows := []row{
		{label: "from", tone: grey, lines: []string{untrusted.Clean(source.From)}},
		{label: "host", tone: grey, lines: []string{d.Name + ": " + strings.Join(reached(d, "").lines, "")}},
	}
	if d.SSH.Address != "" {
		rows = append(rows, row{label: "address", tone: ochre, lines: []string{d.SSH.Address}})
	}
	rows = append(rows, secretsTo(d)...)
	return s.block(11, append(rows, row{label: "fingerprint", tone: grey,
		lines: []string{source.Fingerprint()}})) + "\n"
}

// secretsTo lists the places to which a secret may go, and who vouches for each.
func secretsTo(d *describe.Description) []row {
	var rows []row
	for _, there := range d.Destinations() {
		who := "its certificate must be signed by a certificate authority that this system trusts"
		if there.Authority != "" {
			who = "its certificate must be signed by the certificate authority in the description, SHA-256 " +
				there.Authority[:16] + "…"
		}
		where := there.Origin
		if there.Address != "" {
			where += " at " + there.Address
		}
		rows = append(rows, row{label: "secrets to", tone: grey, lines: []string{where + " (" + there.For + ")", who}})
	}
	return rows
}

// ReplacedSource holds a description against the one whose place it would take.
func ReplacedSource(s Style, source hosts.Source, old hosts.Replacement) string {
	name := source.Description.Name
	text := s.Sentences("A description of "+name+" is here already. This one differs:") +
		s.difference(workstation.Difference{Before: old.Text, After: source.Text}, name+".toml")
	if old.Description == nil {
		return text + "\n" + Source(s, source)
	}
	was := map[origin.Place]bool{}
	for _, place := range old.Description.Places() {
		was[place] = true
	}
	for _, place := range source.Description.Places() {
		if !was[place] {
			text += Careful(s, []string{"New: Unicrux may send secrets to " + place.String() + "."})
		}
	}
	return text + "\n" + Source(s, source)
}

// byHand are the operations that a person does in place of a host's interface.
var byHand = []string{"host-keys", "list-keys", "add-key", "remove-key", "issue-token", "list-repos", "add-repo"}

// abilities says in words what the host's interface can be told, and what is left to do by hand.
func abilities(d *describe.Description) string {
	var can, hand []string
	for _, name := range describe.Names() {
		if d.Can(name) {
			can = append(can, describe.Operations[name].Does)
		} else if slices.Contains(byHand, name) &&
			(name != "host-keys" || len(d.SSH.HostKeys)+len(d.SSH.Fingerprints) == 0) {
			hand = append(hand, describe.Operations[name].Does)
		}
	}
	text := strings.Join(can, ", ")
	if text == "" {
		return "Everything is done on its web page: the description names no API."
	}
	if len(hand) > 0 {
		text += ". On its web page: " + strings.Join(hand, ", ")
	}
	return text + "."
}

// Hosts writes a table of described hosts.
func Hosts(s Style, list []*describe.Description) string {
	var rows [][]string
	for _, d := range list {
		rows = append(rows, []string{d.Name, d.HostName(), fmt.Sprint(d.Port()), d.Title})
	}
	return s.table([]string{"host", "name in clone URLs", "port", "title"}, rows)
}

func hostDoc(d *describe.Description) document.Host {
	return document.Host{Name: d.Name, Title: d.Title, HostName: d.HostName(), User: d.SSH.User, Port: d.Port(),
		Address: document.Text(d.SSH.Address), API: document.Text(d.Interface.URL),
		ManagedBy: document.Text(document.Path(d.Managed))}
}

// HostDocument makes the document of one host.
func HostDocument(d *describe.Description, change int) any {
	return document.HostAlone{Schema: document.Schema("host"), Host: hostDoc(d), Change: document.Number(change)}
}

// HostsDocument makes the document of a list of hosts.
func HostsDocument(list []*describe.Description, problems []string) any {
	return document.Hosts{Schema: document.Schema("hosts"), Hosts: document.Map(list, hostDoc),
		Unreadable: document.List(problems)}
}

// Trusted writes whose key was stored and why it is believed.
func Trusted(s Style, t *trust.Trusted, host, file string, dry bool) string {
	verb := "Stored"
	switch {
	case t.Already:
		verb = "Already stored"
	case dry:
		verb = "Would store"
	}
	return s.Sentences(verb+" the key by which "+host+" proves itself. It is the host's key, not yours.") + "\n" +
		s.block(11, []row{
			{label: "host key", tone: grey, lines: []string{sshkey.Kind(t.Key) + " " + sshkey.Fingerprint(t.Key)}},
			{label: "compared", tone: grey, lines: []string{"the same as " + t.Because}},
			{label: "stored for", tone: grey, lines: []string{t.Name}},
			{label: "in", tone: grey, lines: []string{file}},
		})
}

// TrustedDocument makes the document of a host's key that was stored.
func TrustedDocument(t *trust.Trusted, host string, change int) any {
	return document.Trust{Schema: document.Schema("trust"), Host: host, StoredFor: t.Name, Type: sshkey.Kind(t.Key),
		Fingerprint: sshkey.Fingerprint(t.Key), ComparedWith: t.Because, Path: document.Path(t.File),
		Already: t.Already, Change: document.Number(change)}
}

// Registered writes what the host knows now and how that was proved.
func Registered(s Style, r *registration.Registered, key, host string) string {
	title := untrusted.Clean(r.Title)
	known := fmt.Sprintf("%s knows %s now, as “%s”.", host, key, title)
	if r.Already {
		known = fmt.Sprintf("%s knew %s already, as “%s”.", host, key, title)
	}
	proof := "Signed in with it to prove it"
	if r.Proof == registration.MoreWanted {
		proof = "The host accepts the key, and requires a second factor, which git cannot give"
	}
	if r.Proof == registration.KeyTaken {
		proof = "The host accepts the key. It has a passphrase, and there was no terminal to ask on, so signing in was not tried"
	}
	switch r.Proof {
	case registration.Listed:
		proof = "The host lists it as a key that signs commits: it opens nothing"
	case registration.Told:
		proof = "The host took it as a key that signs commits, and does not tell which it has"
	}
	if r.Account != "" {
		proof += ": the host greets you as " + untrusted.Clean(r.Account)
	}
	if terms := terms(r); terms != "" {
		known += " " + terms
	}
	return s.Sentences(known, proof+".")
}

// terms says what the host limits the key to.
func terms(r *registration.Registered) string {
	var list []string
	switch r.Access {
	case hostapi.Read:
		list = append(list, "may read and not write")
	case hostapi.Write:
		list = append(list, "may read and write")
	}
	if !r.Until.IsZero() {
		list = append(list, "expires there on "+r.Until.Format(time.DateOnly))
	}
	if len(list) == 0 {
		return ""
	}
	return "It " + strings.Join(list, ", and ") + "."
}

// RegisteredDocument makes the document of a key that a host has now; key is its private file.
func RegisteredDocument(r *registration.Registered, key, host string, change int) any {
	return document.Registration{Schema: document.Schema("registration"), Host: host, Key: document.Path(key),
		ID: document.Text(r.ID), Title: document.Text(r.Title), Account: document.Text(r.Account),
		Already: r.Already, Until: document.Time(r.Until), Access: document.Text(string(r.Access)),
		Proof: string(r.Proof), Change: document.Number(change)}
}

// ByHand says what to paste, where and under which title. The line stands alone, whole.
func ByHand(s Style, r registration.Registration, line string) string {
	host, page := r.Host.Name, r.Host.Pages.Keys
	where := "Register this one line at " + host + ", on its web page for SSH keys"
	if page != "" {
		where += ":"
	} else {
		where += "."
	}
	rows := []row{{label: "title", tone: grey, lines: []string{r.Title}}}
	if r.Access != "" {
		rows = append(rows, row{label: "access", tone: grey, lines: []string{string(r.Access)}})
	}
	if !r.Until.IsZero() {
		rows = append(rows, row{label: "until", tone: grey, lines: []string{r.Until.Format(time.DateOnly)}})
	}
	text := s.Sentences(where)
	if page != "" {
		text += margin + page + "\n"
	}
	return text + "\n" + line + "\n\n" + s.block(6, rows) + "\n"
}

// FirstContact shows all keys of a host that nothing vouches for, and says what to do about them; page is where the
// host publishes them, if that is known.
func FirstContact(s Style, name string, keys []ssh.PublicKey, page string) string {
	var rows [][]string
	for _, key := range keys {
		rows = append(rows, []string{sshkey.Kind(key), sshkey.Fingerprint(key), s.tideLine(sshkey.Eye(key))})
	}
	where := "Find the fingerprint on the host's own web page, or ask whoever runs it: not over this connection. Any of its keys will do."
	if page != "" {
		where = "The host publishes its fingerprints at " + page + ". Any of its keys will do."
	}
	return s.Sentences(
		"This is the first contact with "+untrusted.Clean(
			name,
		)+", and nothing here says what its key is. It proves itself by:",
	) +
		"\n" + s.table(
		[]string{"type", "fingerprint", "tide line"},
		rows,
	) + "\n" + s.Sentences(
		where,
	)
}

// CertificateToCompare shows a certificate that vouches for a host over HTTPS and that nothing here trusts.
func CertificateToCompare(s Style, host string, c *x509.Certificate, sum string) string {
	var pairs []string
	for i := 0; i+2 <= len(sum); i += 2 {
		pairs = append(pairs, sum[i:i+2])
	}
	until := row{label: "valid until", tone: grey, lines: []string{c.NotAfter.Format(time.DateOnly)}}
	return s.Sentences(
		"Nobody whom this workstation trusts has signed the certificate of "+host+". It shows this one as the last word:",
	) +
		"\n" + s.block(
		11,
		[]row{
			{label: "certificate", tone: grey, lines: []string{untrusted.Clean(c.Subject.String())}},
			{label: "signed by", tone: grey, lines: []string{untrusted.Clean(c.Issuer.String())}}, until,
			{
				label: "SHA-256",
				tone:  grey,
				lines: []string{strings.Join(pairs[:16], ":"), strings.Join(pairs[16:], ":")},
			},
		},
	) + "\n" + s.Sentences(
		"Get its fingerprint from whoever runs the host, not over this connection.",
	)
}

// Clipboard asks the terminal to put text on the clipboard (OSC 52 of xterm's control
// sequences, which many terminals know).
func Clipboard(text string) string {
	return "\x1b]52;c;" + base64.StdEncoding.EncodeToString([]byte(text)) + "\a"
}
