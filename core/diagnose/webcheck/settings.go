package webcheck

import (
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/diagnose/localcheck"
	"anchorage.example/unicrux/core/diagnose/seen"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/regular"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/core/untrusted"
)

// Settled is what git would do for an address over HTTPS.
type Settled struct {
	localcheck.Located
	Web *gitlink.Web // nil where nothing could be settled

	trust
	suspicions []finding.Suspicion
}

// Settle passes the stage of settings: what would git do for this address? Where it would stop there, it returns the
// crux.
func Settle(ctx context.Context, l localcheck.Located) (s Settled, part finding.Part, crux *finding.Crux) {
	start := time.Now()
	s = Settled{Located: l}
	s.Web = s.webSettings()
	part.Facts = s.settingFacts()
	if name := "git-remote-" + s.Base.Scheme; s.Hg == nil && !gitlink.HasProgram(ctx, s.Station, name) {
		return s, part, finding.New(causes.ProgramMissing, finding.Proved,
			finding.Saw(seen.Missing, name+", by which git goes over HTTP", ""))
	}
	if wrong := s.noNumber(); wrong != nil {
		return s, part, wrong
	}
	if s.trust, crux = s.readTrust(); crux != nil {
		return s, part, crux
	}
	s.suspicions = s.suspectHelpers(ctx)
	part.Open(causes.Settings, time.Since(start))
	return s, part, nil
}

func (s Settled) settingFacts() []finding.StageFact {
	var part finding.Part
	fact := func(name, value, origin string) {
		if value != "" {
			part.Fact(causes.Settings, name, untrusted.Clean(value), s.Station.Tilde(s.Web.Origin(origin)))
		}
	}
	fact("proxy", hideURL(s.Web.Proxy), "proxy")
	fact("authority", s.Web.Authority, "authority")
	fact("authorities in", s.Web.Folder, "folder")
	fact("cookies", s.Web.CookieFile, "cookies")
	fact("public key", s.Web.KeyPins, "pin")
	fact("address", s.Web.At, "at")
	if s.Hg != nil {
		fact("program", "hg", "")
		fact("fingerprint", strings.Join(s.Web.Pins, ", "), "pin")
	}
	if s.Web.Blind {
		fact("certificate", "not looked at", "blind")
	}
	for _, text := range s.Web.Headers {
		name, _, _ := strings.Cut(text, ":")
		fact("header", name+": "+secret.Mask, "header")
	}
	for _, set := range s.Config.For("credential", s.asWritten().String()) {
		if set.Name == "credential.helper" {
			part.Fact(causes.Settings, "helper", untrusted.Clean(set.Entry.Value), s.Station.Tilde(set.Entry.Origin))
		}
	}
	return part.Facts
}

// noNumber names a setting of git's for HTTPS that should be a number and is none: git reads it only
// when it is on its way ("http.*" in git-config(1)).
func (s Settled) noNumber() *finding.Crux {
	numbers := []string{"http.lowspeedlimit", "http.lowspeedtime", "http.postbuffer", "http.maxrequests",
		"http.minsessions"}
	for _, set := range s.Config.For("http", s.asWritten().String()) {
		if slices.Contains(numbers, set.Name) && !causes.Says(set.Entry.Value, `^-?\d+[kmg]?$`) {
			return finding.New(causes.GitConfigBroken, finding.Proved,
				finding.Saw(seen.Setting, set.Name+" = "+untrusted.Clean(set.Entry.Value),
					s.Station.Tilde(set.Entry.Origin)), finding.Saw(seen.Why, "a number belongs there", ""))
		}
	}
	return nil
}

// asWritten is the address with the user who stands in it, for whom alone settings may hold.
func (s Settled) asWritten() *url.URL {
	at := *s.Base
	if s.WebUser != "" {
		at.User = url.User(s.WebUser)
	}
	return &at
}

func (s Settled) webSettings() *gitlink.Web {
	if s.Hg != nil {
		return s.Hg.Web(s.Base)
	}
	return s.Config.WebOf(s.Question.Remote, s.asWritten())
}

// A trust is what the line to the host is judged by, and with what this workstation proves itself.
type trust struct {
	roots []byte           // certificates that git trusts; nil for the system's
	more  []byte           // and those that it trusts beside them
	own   *tls.Certificate // that settings name; nil for none
}

// readTrust reads the files that settings name for the line to the host; the crux says that one cannot be.
func (s Settled) readTrust() (t trust, crux *finding.Crux) {
	wrong := func(file, origin, what string) (trust, *finding.Crux) {
		return t, finding.New(causes.FileMissing, finding.Proved,
			finding.Saw(seen.File, untrusted.Clean(file), s.Station.Tilde(s.Web.Origin(origin))),
			finding.Saw(seen.ItIsFor, what, ""))
	}
	if s.Base.Scheme != "https" {
		return t, nil
	}
	if s.Web.Authority != "" && !s.Web.Blind { // which git does not look at then
		text, err := regular.Read(gitlink.Pathname(s.Station, s.Web.Authority), regular.Settings)
		if err != nil || !x509.NewCertPool().AppendCertsFromPEM(text) {
			return wrong(s.Web.Authority, "authority", "the certificate authorities that git trusts")
		}
		t.roots = text
	}
	if s.Web.Folder != "" {
		t.more = inFolder(gitlink.Pathname(s.Station, s.Web.Folder))
	}
	if s.Web.OwnCert != "" {
		own, err := tls.LoadX509KeyPair(gitlink.Pathname(s.Station, s.Web.OwnCert),
			gitlink.Pathname(s.Station, cmp.Or(s.Web.OwnKey, s.Web.OwnCert)))
		if err != nil {
			return wrong(s.Web.OwnCert, "own", "the certificate with which git proves this workstation")
		}
		t.own = &own
	}
	return t, nil
}

// inFolder reads the certificates in a folder. What is no certificate is passed over, as git's library does.
func inFolder(folder string) []byte {
	entries, _ := os.ReadDir(folder) // none is there: nobody is trusted for it
	var all []byte
	for _, entry := range entries[:min(len(entries), mostAuthorities)] {
		if text, err := regular.Read(filepath.Join(folder, entry.Name()), regular.Settings); err == nil {
			all = append(append(all, text...), '\n')
		}
	}
	return all
}

// mostAuthorities bounds how many files of certificates are read.
const mostAuthorities = 2000

// helpers are the settings that name whom git asks for a secret here.
func (s Settled) helpers() []gitlink.URLSetting {
	if s.Hg != nil { // it has none
		return nil
	}
	return slices.DeleteFunc(s.Config.For("credential", s.asWritten().String()),
		func(set gitlink.URLSetting) bool { return set.Name != "credential.helper" || set.Entry.Value == "" })
}

// suspectHelpers finds what would explain that nobody has a secret.
func (s Settled) suspectHelpers(ctx context.Context) []finding.Suspicion {
	if s.Hg != nil {
		return s.suspectExtension(ctx)
	}
	var list []finding.Suspicion
	for _, set := range s.helpers() {
		if program, there := gitlink.HelperProgram(ctx, s.Station, set.Entry.Value); !there {
			list = append(list, finding.SuspectFor(causes.SecretMissing,
				finding.New(causes.HelperMissing, finding.Proved,
					finding.Saw(seen.Helper, untrusted.Clean(set.Entry.Value), s.Station.Tilde(set.Entry.Origin)),
					finding.Saw(seen.Missing, untrusted.Clean(program), ""))))
			break
		}
	}
	asks, origin := s.Config.AskPass()
	if broken := localcheck.AskingFails(asks, s.Station.Tilde(origin)); broken != nil {
		list = append(list, finding.SuspectFor(causes.SecretMissing, broken))
	}
	return list
}

// suspectExtension looks whether hg fails to load an extension: some of them supply passwords.
func (s Settled) suspectExtension(ctx context.Context) []finding.Suspicion {
	words := s.Hg.Complaints(ctx)
	if words == "" {
		return nil
	}
	return []finding.Suspicion{
		finding.SuspectFor(causes.SecretMissing, finding.New(causes.GitConfigBroken, finding.Likely,
			finding.Saw(seen.HgSays, untrusted.Quote(untrusted.Clean(words)), ""))),
	}
}

func hideURL(text string) string {
	at, err := url.Parse(text)
	if err != nil || text == "" {
		return text
	}
	return at.Redacted()
}
