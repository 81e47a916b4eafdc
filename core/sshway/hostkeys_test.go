package sshway

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/knownhosts"
	"anchorage.example/unicrux/core/sshconfig"
)

// TestHostKeyAlgorithmsAgree compares the list that settings make with that of the installed client.
func TestHostKeyAlgorithmsAgree(t *testing.T) {
	t.Parallel()
	for _, value := range []string{"", "+ssh-rsa", "+ssh-rsa,ssh-ed25519", "-ssh-ed25519*",
		"-rsa*,ecdsa-sha2-nistp256", "^rsa-sha2-512", "^ecdsa*,ssh-rsa", "ssh-ed25519",
		"rsa-sha2-256,ssh-ed25519,ecdsa-sha2-nistp384", "ecdsa*", "*", "^*", "-*rsa*", "+*dss*"} {
		line := ""
		if value != "" {
			line = "HostKeyAlgorithms " + value + "\n"
		}
		file := filepath.Join(t.TempDir(), "config")
		if err := os.WriteFile(file, []byte(line), 0o600); err != nil {
			t.Fatal(err)
		}
		out, err := exec.Command("ssh", "-G", "-F", file, "forge").Output()
		if err != nil {
			t.Fatal(err)
		}
		var theirs []string
		for text := range strings.Lines(string(out)) {
			if list, found := strings.CutPrefix(text, "hostkeyalgorithms "); found {
				theirs = slices.DeleteFunc(strings.Split(strings.TrimSpace(list), ","),
					func(a string) bool { return !slices.Contains(allHostKeys, a) })
			}
		}
		if got := assembled(value); !slices.Equal(got, theirs) {
			t.Errorf("%q:\nours   %v\ntheirs %v", value, got, theirs)
		}
	}
}

// TestWhatIsStoredComesFirst as the client orders it.
func TestWhatIsStoredComesFirst(t *testing.T) {
	t.Parallel()
	key := func(kind string) knownhosts.Entry { return knownhosts.Entry{Key: ofType(kind)} }
	for _, row := range []struct {
		name, setting      string
		keys, authorities  []knownhosts.Entry
		first, notTheFirst string
	}{
		{name: "nothing", first: ssh.CertAlgoED25519v01, notTheFirst: ssh.KeyAlgoECDSA256},
		{name: "its first choice", keys: []knownhosts.Entry{key(ssh.KeyAlgoED25519), key(ssh.KeyAlgoRSA)},
			first: ssh.CertAlgoED25519v01, notTheFirst: ssh.KeyAlgoRSASHA512},
		{name: "another", keys: []knownhosts.Entry{key(ssh.KeyAlgoECDSA256)}, first: ssh.CertAlgoECDSA256v01,
			notTheFirst: ssh.KeyAlgoED25519},
		{name: "rsa", keys: []knownhosts.Entry{key(ssh.KeyAlgoRSA)}, first: ssh.CertAlgoRSASHA512v01,
			notTheFirst: ssh.KeyAlgoED25519},
		{name: "an authority", authorities: []knownhosts.Entry{key(ssh.KeyAlgoED25519)}, first: ssh.CertAlgoED25519v01,
			notTheFirst: ssh.KeyAlgoED25519},
		{name: "settings say", setting: "^rsa-sha2-256", keys: []knownhosts.Entry{key(ssh.KeyAlgoECDSA256)},
			first: ssh.KeyAlgoRSASHA256, notTheFirst: ssh.KeyAlgoECDSA256},
	} {
		file := filepath.Join(t.TempDir(), "config")
		text := ""
		if row.setting != "" {
			text = "HostKeyAlgorithms " + row.setting + "\n"
		}
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		w := &Way{Settings: sshconfig.Resolve(sshconfig.Query{Host: "forge",
			Command: sshconfig.CommandLine{Config: file}}), Known: &knownhosts.Known{Keys: row.keys,
			Authorities: row.authorities}}
		if got := w.HostKeyAlgorithms(); got[0] != row.first || slices.Index(got, row.notTheFirst) < 1 ||
			len(got) != len(usualHostKeys) {
			t.Errorf("%s: %v", row.name, got)
		}
	}
}

// ofType is a key of which nothing but its type matters.
type ofType string

func (k ofType) Type() string                        { return string(k) }
func (k ofType) Marshal() []byte                     { return []byte(k) }
func (k ofType) Verify([]byte, *ssh.Signature) error { return nil }
