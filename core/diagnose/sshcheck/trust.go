package sshcheck

import (
	"context"
	"net"
	"strconv"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/diagnose/seen"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/knownhosts"
	"anchorage.example/unicrux/core/redact"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/core/wire"
)

// explainTrust tells an unknown key from a changed one and a changed one from a wrong
// one, by what the host publishes.
func (t Travelled) explainTrust(ctx context.Context) *finding.Crux {
	offered := finding.Saw(seen.Offered, keyText(t.Trip.HostKey),
		net.JoinHostPort(t.Passage.Client.HostName, strconv.Itoa(t.Passage.Client.Port)))
	stored := finding.Saw(seen.Stored, "nothing for "+t.Passage.Client.KnownHostsName, "")
	if t.by != nil {
		stored = finding.Saw(seen.Stored, keyText(t.by.Key), t.Station.Tilde(t.by.Origin()))
	}
	if t.verdict == knownhosts.KeyIsBanned {
		return t.explainBan(offered)
	}
	if t.verdict == knownhosts.Unknown {
		if found := t.hostCertificate(offered); found != nil {
			return found
		}
	}
	if t.verdict == knownhosts.Unknown {
		if unread := t.unreadKnownHosts(offered); unread != nil {
			return unread
		}
	}
	published, match := t.published(ctx, t.Trip.HostKey)
	code := causes.HostKeyWrong
	switch {
	case match == matches && t.verdict == knownhosts.Changed:
		code = causes.HostKeyChanged
	case match != differs && t.verdict != knownhosts.Changed:
		code = causes.HostKeyUnknown
	}
	found := finding.New(code, finding.Proved, offered, stored, published)
	if code == causes.HostKeyUnknown {
		found.Evidence = append(found.Evidence, t.firstContact())
	}
	found.Vouched = match == matches
	t.otherSources(found)
	return found
}

// unreadKnownHosts is the crux where ssh cannot read a file in which the key may be: to ssh every host is a new one
// then. It is nil where all could be read.
func (t Travelled) unreadKnownHosts(offered finding.Evidence) *finding.Crux {
	for _, problem := range t.Passage.Known.Problems {
		if problem.Line != 0 {
			continue
		}
		found := finding.New(
			causes.FileMissing,
			finding.Proved,
			finding.Saw(seen.File, t.Station.Tilde(problem.File), ""),
			finding.Saw(seen.Why, untrusted.Clean(problem.Err.Error()), ""),
			finding.Saw(
				seen.ItIsFor,
				"the host keys that ssh knows: while ssh cannot read it, every host is new to ssh",
				"",
			),
			offered,
		)
		found.Path = problem.File
		return found
	}
	return nil
}

// otherSources says where ssh looks for the host's key besides: at a command, which is not run without leave, and at
// the name servers. Where one of them could not be asked, it is not certain that ssh does not know the key.
func (t Travelled) otherSources(found *finding.Crux) {
	command, origin, set := t.Passage.Settings.First("knownhostscommand")
	if set && !strings.EqualFold(command, "none") && !t.Request.RunCommands {
		found.Certainty = finding.Likely
		found.Evidence = append(found.Evidence,
			finding.Saw(seen.NotAsked, "KnownHostsCommand "+untrusted.Clean(redact.Text(command)), t.Origin(origin)))
	}
	if evidence, unsure := t.nameServers(); evidence.Name != "" {
		found.Evidence = append(found.Evidence, evidence)
		if unsure {
			found.Certainty = finding.Likely
		}
	}
}

// nameServers says what they say about a host's key, where settings want them asked; unsure where they do not answer
// and could settle it.
func (t Travelled) nameServers() (evidence finding.Evidence, unsure bool) {
	if t.Passage.Names == nil {
		return finding.Evidence{}, false
	}
	value, origin, _ := t.Passage.Settings.First("verifyhostkeydns")
	records, err := t.Passage.Names()
	words := "have no fingerprint of the host's keys"
	switch {
	case err != nil:
		words = "could not be asked: " + untrusted.Clean(err.Error())
	case records.Match(t.Trip.HostKey) && records.Secure:
		words = "vouch for this very key"
	case records.Match(t.Trip.HostKey):
		words = "name this very key, but nothing proves that the answer is theirs (DNSSEC)"
	case records.Any():
		words = "name another key"
	}
	return finding.Saw(seen.NameServers, words, t.Origin(origin)), err != nil && strings.EqualFold(value, "yes")
}

// explainBan names what keeps ssh from ever trusting the key: a mark beside it, a list of revoked keys, or
// that such a list cannot be read.
func (t Travelled) explainBan(offered finding.Evidence) *finding.Crux {
	if t.by != nil {
		return finding.New(causes.HostKeyRevoked, finding.Proved, offered,
			finding.Saw(seen.RevokedIn, t.Station.Tilde(t.by.Origin()), ""))
	}
	banned := t.Passage.Banned
	setting := finding.Saw(seen.Setting, "RevokedHostKeys "+untrusted.Clean(t.Station.Tilde(banned.Path)),
		t.Origin(banned.Origin))
	if banned.Err == nil {
		return finding.New(causes.HostKeyRevoked, finding.Proved, offered, setting)
	}
	return finding.New(causes.FileMissing, finding.Proved,
		finding.Saw(seen.File, untrusted.Clean(t.Station.Tilde(banned.Path)),
			untrusted.Clean(banned.Err.Error())), setting,
		finding.Saw(seen.ItIsFor,
			"the host keys that are never trusted: while ssh cannot read it, ssh trusts no host", ""))
}

// firstContact says what ssh does about a key that it does not know.
func (t Travelled) firstContact() finding.Evidence {
	batch, _, _ := t.Passage.Settings.First("batchmode")
	origin := t.Origin(t.Passage.Client.Origin("stricthostkeychecking"))
	if t.Passage.Client.Strict == "yes" || batch == "yes" {
		return finding.Saw(seen.SSH, "refuses, and asks nobody", origin)
	}
	return finding.Saw(seen.SSH, "asks in a terminal whether the key is right, and refuses without one", origin)
}

// A comparison says how an offered host key compares with the published ones.
type comparison int

const (
	unpublished comparison = iota
	matches
	differs
)

// published compares a host's key with those that it publishes. Where it is none of them, the host is
// asked for its keys of other types before it is suspected: it may publish one alone.
func (t Travelled) published(ctx context.Context, key ssh.PublicKey) (finding.Evidence, comparison) {
	if t.Host == nil {
		return finding.Saw(seen.Published, "nothing that we know of: this host is not described here", ""), unpublished
	}
	published, err := hostapi.Published(ctx, t.Host, t.Request.Timeout)
	switch {
	case err != nil && !published.Any():
		return finding.Saw(seen.Published, "could not be asked: "+untrusted.Clean(err.Error()), ""), unpublished
	case !published.Any():
		return finding.Saw(seen.Published, "nothing", ""), unpublished
	case published.Has(key):
		return finding.Saw(seen.Published, "this very key", ""), matches
	}
	for _, other := range wire.HostKeys(ctx, t.plan(func(judgement) {}), key, published.Has) {
		if published.Has(other) {
			return finding.Saw(seen.Published, keyText(other)+", which the host has as well", ""), matches
		}
	}
	return finding.Saw(seen.Published, published.First(), ""), differs
}

func keyText(key ssh.PublicKey) string { return sshkey.Kind(key) + " " + sshkey.Fingerprint(key) }

// certificateRefused names what is wrong with a certificate that was offered and refused; nil where none was.
// The host does not say why: of a certificate that holds for the user who signs in, it does not accept who signed it.
func (t Travelled) certificateRefused(evidence []finding.Evidence) *finding.Crux {
	for _, key := range t.offered()[:len(t.Trip.Offered)] {
		certificate := key.Certificate()
		if certificate == nil {
			continue
		}
		code, told := t.wrongWith(certificate, userCertificate)
		return finding.New(
			code,
			finding.Likely,
			append(
				[]finding.Evidence{told, finding.Saw(seen.SignedBy, authorityText(certificate), "")},
				evidence...)...)
	}
	return nil
}

// hostCertificate names what is wrong with the certificate of a host whose authority is trusted; nil where it is
// not that.
func (t Travelled) hostCertificate(offered finding.Evidence) *finding.Crux {
	if t.Trip.HostCertificate == nil {
		return nil
	}
	authority := t.Passage.Known.Authority(t.Trip.HostCertificate)
	if authority == nil {
		return nil
	}
	code, told := t.wrongWith(t.Trip.HostCertificate, hostsCertificate)
	if code.IsZero() {
		return nil
	}
	return finding.New(code, finding.Proved, told, finding.Saw(seen.SignedBy, authorityText(t.Trip.HostCertificate),
		t.Station.Tilde(authority.Origin())), offered, t.firstContact())
}

// certificateCodes are the causes for each thing that may be wrong with a certificate.
type certificateCodes struct {
	ended, notYet, other, rest causes.Code
}

var (
	userCertificate = certificateCodes{causes.CertificateEnded, causes.CertificateNotYet, causes.CertificateOtherUser,
		causes.CertificateAuthorityUnknown}
	hostsCertificate = certificateCodes{causes.HostCertificateEnded, causes.HostCertificateNotYet,
		causes.HostCertificateOtherName, causes.Code{}}
)

// wrongWith tells what is wrong with a certificate, and how one sees it.
func (t Travelled) wrongWith(certificate *ssh.Certificate, codes certificateCodes) (causes.Code, finding.Evidence) {
	name := t.Passage.Client.User
	if certificate.CertType == ssh.HostCert {
		name = t.Passage.Client.HostName
	}
	from, until := sshkey.CertificateTimes(certificate)
	switch sshkey.Judge(certificate, name, t.Station.Now()) {
	case sshkey.NotYet:
		return codes.notYet, finding.Saw(seen.ValidFrom, from.Format(time.DateTime), "the certificate")
	case sshkey.Ended:
		return codes.ended, finding.Saw(seen.ValidUntil, until.Format(time.DateTime), "the certificate")
	case sshkey.ForOther:
		names := untrusted.Clean(strings.Join(certificate.ValidPrincipals, ", "))
		if names == "" {
			names = "nobody: it names no user"
		}
		return codes.other, finding.Saw(seen.ValidFor, names, "the certificate")
	}
	return codes.rest, finding.Saw(seen.ValidFor, untrusted.Clean(name), "the certificate")
}

// authorityText is who signed a certificate, and as what.
func authorityText(certificate *ssh.Certificate) string {
	text := sshkey.Kind(certificate.SignatureKey) + " " + sshkey.Fingerprint(certificate.SignatureKey)
	if certificate.KeyId != "" {
		text += ", as " + untrusted.Quote(untrusted.Clean(certificate.KeyId))
	}
	return text
}
