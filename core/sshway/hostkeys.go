package sshway

import (
	"slices"
	"strings"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/knownhosts"
	"anchorage.example/unicrux/core/sshconfig"
)

// usualHostKeys are the algorithms of host keys in the order in which the client prefers them, since
// OpenSSH 8.5 ("HostKeyAlgorithms" in ssh_config(5)). Those that need a security key are left out: no
// host is known to prove itself so.
var usualHostKeys = []string{
	ssh.CertAlgoED25519v01, ssh.CertAlgoECDSA256v01, ssh.CertAlgoECDSA384v01, ssh.CertAlgoECDSA521v01,
	ssh.CertAlgoRSASHA512v01, ssh.CertAlgoRSASHA256v01,
	ssh.KeyAlgoED25519, ssh.KeyAlgoECDSA256, ssh.KeyAlgoECDSA384, ssh.KeyAlgoECDSA521, ssh.KeyAlgoRSASHA512,
	ssh.KeyAlgoRSASHA256,
}

// allHostKeys are those that patterns choose from, in the client's order: with what it speaks only when it
// is told to.
var allHostKeys = []string{
	ssh.KeyAlgoED25519, ssh.CertAlgoED25519v01, ssh.KeyAlgoECDSA256, ssh.CertAlgoECDSA256v01, ssh.KeyAlgoECDSA384,
	ssh.CertAlgoECDSA384v01,
	ssh.KeyAlgoECDSA521, ssh.CertAlgoECDSA521v01, "ssh-dss", "ssh-dss-cert-v01@openssh.com", ssh.KeyAlgoRSA,
	ssh.CertAlgoRSAv01,
	ssh.KeyAlgoRSASHA256, ssh.CertAlgoRSASHA256v01, ssh.KeyAlgoRSASHA512, ssh.CertAlgoRSASHA512v01,
}

// namesVouch is what counts of the name servers' word about host keys: "yes", "ask" or "no" ("VerifyHostKeyDNS" in
// ssh_config(5)).
func (w *Way) namesVouch() string {
	value, _, set := w.Settings.First("verifyhostkeydns")
	if !set {
		return "no"
	}
	switch value = strings.ToLower(value); value {
	case "yes", "true":
		return "yes"
	case "ask":
		return "ask"
	}
	return "no"
}

// vouched reports whether the client trusts a key because the name servers vouch for it.
func (w *Way) vouched(key ssh.PublicKey) bool {
	if w.Names == nil || w.namesVouch() != "yes" {
		return false
	}
	records, err := w.Names()
	return err == nil && records.Secure && records.Match(key)
}

// HostKeyAlgorithms lists what the client asks the host to prove itself with, in its order: as settings
// say, and where they leave the order to it, what is stored for the host first (order_hostkeyalgs in
// sshconnect2.c of OpenSSH).
func (w *Way) HostKeyAlgorithms() []string {
	value, _, set := w.Settings.First("hostkeyalgorithms")
	list := assembled(value)
	if set && value != "" && !strings.ContainsAny(value[:1], "+-") {
		return list
	}
	stored := func(algorithm string) bool {
		return slices.ContainsFunc(w.Known.Keys,
			func(e knownhosts.Entry) bool { return e.Key.Type() == plainKind(algorithm) })
	}
	if len(list) == 0 || stored(list[0]) { // the client looks at its first choice alone, and leaves the order as it is
		return list
	}
	var first, rest []string
	for _, algorithm := range list {
		if stored(algorithm) || algorithm != plainAlgorithm(algorithm) && len(w.Known.Authorities) > 0 {
			first = append(first, algorithm)
		} else {
			rest = append(rest, algorithm)
		}
	}
	return append(first, rest...)
}

// assembled applies what a setting says to the usual list: "+" adds, "-" takes out, "^" puts first, and
// anything else is the list.
func assembled(value string) []string {
	if value == "" {
		return slices.Clone(usualHostKeys)
	}
	var named []string
	patterns := strings.Split(strings.TrimLeft(value, "+-^"), ",")
	for _, pattern := range patterns {
		for _, algorithm := range allHostKeys {
			if sshconfig.MatchPattern(algorithm, pattern) && !slices.Contains(named, algorithm) {
				named = append(named, algorithm)
			}
		}
	}
	without := func(list []string) []string {
		return slices.DeleteFunc(slices.Clone(list), func(a string) bool { return slices.Contains(named, a) })
	}
	switch value[0] {
	case '+':
		return append(slices.Clone(usualHostKeys),
			slices.DeleteFunc(named, func(a string) bool { return slices.Contains(usualHostKeys, a) })...)
	case '-':
		return without(usualHostKeys)
	case '^':
		return append(named, without(usualHostKeys)...)
	}
	return named
}

// plainAlgorithm is an algorithm without the certificate around the key.
func plainAlgorithm(algorithm string) string {
	return strings.TrimSuffix(algorithm, "-cert-v01@openssh.com")
}

// plainKind is the type of the key with which an algorithm works.
func plainKind(algorithm string) string {
	switch plain := plainAlgorithm(algorithm); plain {
	case ssh.KeyAlgoRSASHA256, ssh.KeyAlgoRSASHA512:
		return ssh.KeyAlgoRSA
	default:
		return plain
	}
}

// Preferring puts the algorithms first that prove one of some keys.
func Preferring(algorithms []string, keys []ssh.PublicKey) []string {
	var first, rest []string
	for _, algorithm := range algorithms {
		if slices.ContainsFunc(keys, func(k ssh.PublicKey) bool { return k.Type() == plainKind(algorithm) }) {
			first = append(first, algorithm)
		} else {
			rest = append(rest, algorithm)
		}
	}
	return append(first, rest...)
}
