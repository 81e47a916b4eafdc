package acceptance

import (
	"crypto/rand"
	"crypto/sha256"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"anchorage.example/unicrux/agreement"

	"golang.org/x/crypto/ssh"
)

// A known case is what is stored about a host, and how ssh is told to take it.
type knownCase struct {
	name string
	// {ed25519}, {ecdsa}, {rsa} are the host's keys, {other-…} others, {ca} who signs; {name} and {bare} are its name
	stored  string
	options string
}

var knownCases = []knownCase{
	{"nothing", "", ""},
	{"its first choice", "{name} {ed25519}", ""},
	{"another type alone", "{name} {ecdsa}", ""},
	{"the last type alone", "{name} {rsa}", ""},
	{"all of them", "{name} {rsa}\n{name} {ecdsa}\n{name} {ed25519}", ""},
	{"another key of that type", "{name} {other-ed25519}", ""},
	{"another key of another type", "{name} {other-ecdsa}", ""},
	{"another key of each type", "{name} {other-rsa}\n{name} {other-ecdsa}\n{name} {other-ed25519}", ""},
	{"the right one and another", "{name} {other-ed25519}\n{name} {ed25519}", ""},
	{"a type that it has not", "{name} {other-p384}", ""},
	{"a type that it has not, new ones accepted", "{name} {other-p384}", "StrictHostKeyChecking accept-new"},
	{"new ones accepted", "", "StrictHostKeyChecking accept-new"},
	{"another name", "elsewhere.example {ed25519}", ""},
	{"the name without the port", "{bare} {ed25519}", ""},
	{"another key for the name without the port", "{bare} {other-ed25519}", ""},
	{"another key for the name without the port, new ones accepted", "{bare} {other-ed25519}",
		"StrictHostKeyChecking accept-new"},
	{"an alias", "forge {ed25519}", "HostKeyAlias forge"},
	{"an alias that is not stored", "{name} {ed25519}\n{bare} {ed25519}", "HostKeyAlias forge"},
	{"revoked", "{name} {ed25519}\n@revoked * {ed25519}", ""},
	{"another one revoked", "{name} {ed25519}\n@revoked * {other-ed25519}", ""},
	{"revoked for another name", "{name} {ed25519}\n@revoked elsewhere.example {ed25519}", ""},
	{"an authority", "@cert-authority {name} {ca}", ""},
	{"an authority for all", "@cert-authority * {ca}", ""},
	{"another authority", "@cert-authority {name} {other-ed25519}", ""},
	{"another authority and the key", "@cert-authority {name} {other-ed25519}\n{name} {ed25519}", ""},
	{"a revoked authority", "@cert-authority {name} {ca}\n@revoked * {ca}", ""},
	{"only one algorithm", "{name} {ed25519}", "HostKeyAlgorithms rsa-sha2-512"},
	{"one algorithm first", "{name} {ed25519}", "HostKeyAlgorithms ^rsa-sha2-512"},
	{"without the stored one", "{name} {ed25519}", "HostKeyAlgorithms -ssh-ed25519"},
	{"a file of revoked keys", "{name} {ed25519}", "RevokedHostKeys {file:revoked}"},
	{"a file of other revoked keys", "{name} {ed25519}", "RevokedHostKeys {file:others}"},
	{"a file of revoked keys that is not there", "{name} {ed25519}", "RevokedHostKeys {file:nothing}"},
	{"no file of revoked keys", "{name} {ed25519}", "RevokedHostKeys none"},
	{"a binary list with the key", "{name} {ed25519}", "RevokedHostKeys {file:krl-key}"},
	{"a binary list with its hash", "{name} {ed25519}", "RevokedHostKeys {file:krl-hash}"},
	{"a binary list of other keys", "{name} {ed25519}", "RevokedHostKeys {file:krl-other}"},
	{"a binary list with the authority, which signed it", "@cert-authority {name} {ca}",
		"RevokedHostKeys {file:krl-ca}"},
	{"a binary list with the serial number", "@cert-authority {name} {ca}", "RevokedHostKeys {file:krl-serial}"},
	{"a binary list with another serial number", "@cert-authority {name} {ca}", "RevokedHostKeys {file:krl-next}"},
	{"a binary list that is cut", "{name} {ed25519}", "RevokedHostKeys {file:krl-cut}"},
	{"nobody asked on this computer", "", "NoHostAuthenticationForLocalhost yes"},
	{"nobody asked, and another key", "{name} {other-ed25519}", "NoHostAuthenticationForLocalhost yes"},
	{"nobody asked, and an alias", "", "NoHostAuthenticationForLocalhost yes\nHostKeyAlias forge"},
	{"a folder in place of the file", "", "UserKnownHostsFile {file:folder}"},
	{"a line that cannot be read", "{name} ssh-ed25519 ???\n{name} {ed25519}", ""},
}

// TestTrustAgrees asks the real ssh and us about a real sshd, with this and that stored: both trust it, or
// neither does, and for the same reason.
func TestTrustAgrees(t *testing.T) {
	t.Parallel()
	tally := agreement.Of(t, "ssh: whether it trusts a host")
	for _, certified := range []bool{false, true} {
		t.Run(fmt.Sprintf("certificate=%v", certified), func(t *testing.T) {
			t.Parallel()
			p := newPerson(t)
			replace, port := p.hostOfManyKeys(certified)
			who := loginUser(t)
			for _, c := range knownCases {
				p.write(replace.Replace(c.stored)+"\n", ".ssh", "known_hosts")
				p.write("UserKnownHostsFile "+p.path(".ssh", "known_hosts")+"\n", ".ssh", "config")
				if c.options != "" {
					p.write(replace.Replace(c.options)+"\nUserKnownHostsFile "+p.path(".ssh", "known_hosts")+"\n",
						".ssh", "config")
				}
				p.write(p.read(".ssh", "config")+"GlobalKnownHostsFile none\nIdentityFile "+p.path(".ssh",
					"mine")+"\n", ".ssh", "config")
				ours := p.check(fmt.Sprintf("ssh://%s@127.0.0.1:%d/nothing.git", who.Username, port))
				theirs := p.run("", "ssh", "-F", p.path(".ssh", "config"), "-o", "BatchMode=yes", "-p",
					fmt.Sprint(port), who.Username+"@127.0.0.1", "true")
				got, want := ourTrust(ours), theirTrust(theirs)
				tally.Case(got == want, "%s: we say %s (%s), ssh %s\n%s", c.name, got, ours.Crux.Code, want, theirs.err)
			}
		})
	}
}

func ourTrust(c checked) string {
	switch c.Crux.Code {
	case "host-key-unknown":
		return "unknown"
	case "host-key-wrong", "host-key-changed":
		return "changed"
	case "host-key-revoked":
		return "revoked"
	case "file-missing":
		if strings.Contains(strings.Join(c.Crux.Evidence, " "), "every host is new") {
			return "unknown"
		}
		return "revoked"
	}
	return "trusted"
}

func theirTrust(r result) string {
	switch said := strings.ToLower(r.err); {
	case r.exit == 0:
		return "trusted"
	case strings.Contains(said, "revoked"):
		return "revoked"
	case strings.Contains(said, "identification has changed"), strings.Contains(said, "host key for") &&
		strings.Contains(said, "has changed"):
		return "changed"
	case strings.TrimSpace(said) == "host key verification failed.": // nobody could be asked
		return "unknown"
	}
	return r.String()
}

// hostOfManyKeys is an sshd with a key of each usual type, to which the key mine opens. replace fills in
// what stands for its keys, for others, and for files.
func (p *person) hostOfManyKeys(certified bool) (replace *strings.Replacer, port int) {
	p.t.Helper()
	p.must("key", "new", "mine", "--no-passphrase")
	line := func(name string) string {
		return strings.Join(strings.Fields(p.must("key", "show", name, "--line").out)[:2], " ")
	}
	var pairs, options []string
	for name, kind := range map[string][]string{"ecdsa": {"--type", "ecdsa"},
		"rsa": {"--type", "rsa", "--size", "3072"}, "other-ed25519": nil, "other-ecdsa": {"--type", "ecdsa"},
		"other-rsa":  {"--type", "rsa", "--size", "3072"},
		"other-p384": {"--type", "ecdsa", "--size", "384"}, "ca": nil} {
		p.must(append([]string{"key", "new", name, "--no-passphrase"}, kind...)...)
		pairs = append(pairs, "{"+name+"}", line(name))
		if name == "ecdsa" || name == "rsa" {
			options = append(options, "HostKey "+p.path(".ssh", name))
		}
	}
	if certified {
		options = append(options, "HostCertificate "+p.path("sshd", "certificate"))
	}
	port, _ = p.sshd(p.must("key", "show", "mine", "--line").out, options...)
	if certified {
		p.stopServer()
		p.certify("sshd_host", "ca", "127.0.0.1")
		p.startServer(port)
	}
	host := line("sshd_host")
	p.write(host+"\n", "revoked")
	p.write(line("other-ed25519")+"\n", "others")
	if err := os.MkdirAll(p.path("folder"), 0o700); err != nil {
		p.t.Fatal(err)
	}
	lists := p.revocationLists(line)
	pairs = append(pairs, "{ed25519}", host, "{name}", fmt.Sprintf("[127.0.0.1]:%d", port), "{bare}", "127.0.0.1")
	for _, file := range append([]string{"revoked", "others", "nothing", "folder"}, lists...) {
		pairs = append(pairs, "{file:"+file+"}", p.path(file))
	}
	return strings.NewReplacer(pairs...), port
}

// revocationLists writes binary lists of revoked keys, and returns their names. line is a key's public line.
func (p *person) revocationLists(line func(name string) string) []string {
	blob := func(name string) []byte {
		key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(line(name)))
		if err != nil {
			p.t.Fatal(err)
		}
		return key.Marshal()
	}
	serials := func(list ...uint64) []byte { // those that the authority signed
		return agreement.Part(1, agreement.Text(blob("ca")), agreement.Text(),
			agreement.Part(0x20, agreement.Numbers(list...)))
	}
	hash := sha256.Sum256(blob("sshd_host"))
	var names []string
	for name, text := range map[string][]byte{
		"krl-key":    agreement.RevocationList(agreement.Part(2, agreement.Text(blob("sshd_host")))),
		"krl-hash":   agreement.RevocationList(agreement.Part(5, agreement.Text(hash[:]))),
		"krl-other":  agreement.RevocationList(agreement.Part(2, agreement.Text(blob("other-rsa")))),
		"krl-ca":     agreement.RevocationList(agreement.Part(2, agreement.Text(blob("ca")))),
		"krl-serial": agreement.RevocationList(serials(7)),
		"krl-next":   agreement.RevocationList(serials(8)),
		"krl-cut":    agreement.RevocationList(serials(8))[:60],
	} {
		p.write(string(text), name)
		names = append(names, name)
	}
	return names
}

// certify lets one key of this home vouch for another, as that of a host.
func (p *person) certify(name, authority, host string) {
	p.write(p.signed(name, authority, ssh.Certificate{CertType: ssh.HostCert,
		Serial: 7, KeyId: host, ValidPrincipals: []string{host}}), "sshd", "certificate")
}

// signed is a certificate for one key of this home by another one, good for an hour unless it says otherwise.
func (p *person) signed(name, authority string, form ssh.Certificate) string {
	p.t.Helper()
	signer := func(name string) ssh.Signer {
		signer, err := ssh.ParsePrivateKey([]byte(p.read(".ssh", name)))
		if err != nil {
			p.t.Fatal(err)
		}
		return signer
	}
	form.Key = signer(name).PublicKey()
	if form.ValidBefore == 0 {
		form.ValidBefore = uint64(time.Now().Add(time.Hour).Unix())
	}
	if err := form.SignCert(rand.Reader, signer(authority)); err != nil {
		p.t.Fatal(err)
	}
	return string(ssh.MarshalAuthorizedKey(&form))
}

// TestAnyOfItsKeys: a host has keys of several types, and whoever knows one of them may say so. Nobody is
// suspected before all of them were looked at.
func TestAnyOfItsKeys(t *testing.T) {
	t.Parallel()
	p := newPerson(t)
	replace, port := p.hostOfManyKeys(false)
	who := loginUser(t)
	target := fmt.Sprintf("127.0.0.1:%d", port)
	p.write("UserKnownHostsFile "+p.path(".ssh",
		"known_hosts")+"\nGlobalKnownHostsFile none\nIdentityFile "+p.path(".ssh", "mine")+"\n", ".ssh", "config")
	real := func() result {
		return p.run("", "ssh", "-F", p.path(".ssh", "config"), "-o", "BatchMode=yes", "-p", fmt.Sprint(port),
			who.Username+"@127.0.0.1", "true")
	}
	for _, name := range []string{"sshd_host", "ecdsa", "rsa"} {
		p.must("host", "trust", target, "--fingerprint", p.fingerprint(name))
		if stored := p.read(".ssh", "known_hosts"); strings.Count(stored, "\n") != 1 ||
			!strings.Contains(stored, strings.Fields(p.must("key", "show", name, "--line").out)[1]) {
			t.Errorf("%s: stored %s", name, stored)
		}
		if r := real(); r.exit != 0 {
			t.Errorf("%s is stored, and ssh does not trust the host: %s", name, r)
		}
		p.remove(".ssh", "known_hosts")
	}
	wrong := p.unicrux("host", "trust", target, "--fingerprint", p.fingerprint("other-ecdsa"))
	if said := strings.Join(strings.Fields(wrong.err), " "); wrong.exit != 1 || p.exists(".ssh", "known_hosts") ||
		!strings.Contains(said, p.fingerprint("sshd_host")) || !strings.Contains(said, p.fingerprint("ecdsa")) ||
		!strings.Contains(said, p.fingerprint("rsa")) || !strings.Contains(said, "none of its keys") {
		t.Errorf("none of them: %s", wrong)
	}
	// A description that names one of them.
	for _, name := range []string{"ecdsa", "rsa", "other-rsa"} {
		p.write(
			fmt.Sprintf(
				"unicrux = 1\nname = \"quay\"\n[ssh]\nhost = \"quay.tidewater.example\"\nuser = %q\nport = %d\naddress = \"127.0.0.1\"\nhost-keys = [%q]\n",
				who.Username,
				port,
				replace.Replace("{"+name+"}"),
			),
			"quay.toml",
		)
		p.must("host", "add", p.path("quay.toml"), "--yes")
		c := p.check("quay")
		if name == "other-rsa" {
			if c.Crux.Code != "host-key-wrong" {
				t.Errorf("a description that names another key: %+v", c.Crux)
			}
		} else if c.Crux.Code != "host-key-unknown" {
			t.Errorf("a description that names %s: %+v", name, c.Crux)
		} else if p.must("host", "trust", "quay"); !p.check("quay").Open {
			t.Errorf("%s is stored: %+v", name, p.check("quay").Crux)
		}
		p.must("host", "drop", "quay", "--yes")
		_ = os.Remove(p.path(".ssh", "known_hosts"))
	}
}

// TestKnownHostsThatCannotBeRead is named where it matters, and stops nothing else.
func TestKnownHostsThatCannotBeRead(t *testing.T) {
	t.Parallel()
	p := newPerson(t)
	_, port := p.hostOfManyKeys(false)
	p.write("UserKnownHostsFile "+p.path("folder")+"\nGlobalKnownHostsFile none\n", ".ssh", "config")
	p.extra = []string{"GIT_SSH_COMMAND=ssh -F " + p.path(".ssh", "config")} // which may ask
	r := p.unicrux("check", fmt.Sprintf("ssh://git@127.0.0.1:%d/x.git", port))
	if r.exit != 1 || !strings.Contains(r.out, "~/folder") || !strings.Contains(r.out, "not a regular file") ||
		!strings.Contains(r.out, "every host is new") {
		t.Errorf("%s", r)
	}
}

// TestOtherSourcesOfHostKeys: where ssh would ask others as well, it is not certain that it does not know a key.
func TestOtherSourcesOfHostKeys(t *testing.T) {
	t.Parallel()
	p := newPerson(t)
	_, port := p.hostOfManyKeys(false)
	p.write("", ".ssh", "known_hosts")
	for settings, certainty := range map[string]string{"": "proved", "KnownHostsCommand /bin/false %H\n": "likely",
		"KnownHostsCommand none\n": "proved",
		"VerifyHostKeyDNS yes\n":   "proved"} { // which is not asked for an IP address
		p.write(settings+"UserKnownHostsFile "+p.path(".ssh", "known_hosts")+"\nGlobalKnownHostsFile none\n",
			".ssh", "config")
		c := p.check(fmt.Sprintf("ssh://git@127.0.0.1:%d/x.git", port))
		told := strings.Contains(strings.Join(c.Crux.Evidence, "\n"), "not asked")
		if c.Crux.Code != "host-key-unknown" || c.Crux.Certainty != certainty || told != (certainty == "likely") {
			t.Errorf("%q: %+v", settings, c.Crux)
		}
	}
}

// TestCommandsWithLeave runs the commands on which ssh's settings depend only where the person says so: git and
// check agree then.
func TestCommandsWithLeave(t *testing.T) {
	t.Parallel()
	p := newPerson(t)
	replace, port := p.hostOfManyKeys(false)
	who := loginUser(t)
	p.write("", ".ssh", "known_hosts")
	p.write(replace.Replace("{name} {ed25519}\n"), "told")
	p.write(replace.Replace("{name} {other-ed25519}\n"), "told-wrong")
	p.write("#!/bin/sh\necho \"$@\" >> "+p.path("asked")+"\ncat \"$1\"\n", "tells")
	p.chmod(0o700, "tells")
	p.mustGit("init", "--quiet", "--bare", "there")
	url := fmt.Sprintf("ssh://%s@127.0.0.1:%d%s", who.Username, port, p.path("there"))
	base := "UserKnownHostsFile " + p.path(".ssh",
		"known_hosts") + "\nGlobalKnownHostsFile none\nIdentityFile " + p.path(".ssh", "mine") + "\n"
	for _, row := range []struct{ settings, code, without string }{
		{"KnownHostsCommand " + p.path("tells") + " " + p.path("told") + " %H %t %f %K\n", "", "host-key-unknown"},
		{"KnownHostsCommand " + p.path("tells") + " " + p.path("told-wrong") + " %H\n", "host-key-wrong",
			"host-key-unknown"},
		{"KnownHostsCommand " + p.path("nowhere") + " %H\n", "host-key-unknown", "host-key-unknown"},
		{"Match exec \"test -e " + p.path("tells") + "\"\n  UserKnownHostsFile " + p.path("told") + "\nMatch all\n",
			"", "host-key-unknown"},
	} {
		p.write(row.settings+base, ".ssh", "config")
		_ = os.Remove(p.path("asked"))
		if c := p.check(url); c.Open || c.Crux.Code != row.without || p.exists("asked") {
			t.Errorf("%s without leave: %+v", row.settings, c.Crux)
		}
		real, c := p.git("ls-remote", url), p.check(url, "--run-commands")
		if (real.exit == 0) != (row.code == "") || c.Open != (row.code == "") || !c.Open && c.Crux.Code != row.code {
			t.Errorf("%s: git ends with %s, check finds %+v", row.settings, real, c.Crux)
		}
	}
}
