package acceptance

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	sshknown "golang.org/x/crypto/ssh/knownhosts"

	"anchorage.example/unicrux/render/document"
)

// hashed writes a host name as ssh hashes it in its known hosts.

// TestLookHosts tells which stored line belongs to which host, and what is wrong with some.
func TestLookHosts(t *testing.T) {
	t.Parallel()
	p := settled(t)
	p.must("key", "new", "stale", "--no-passphrase")
	own, other := strings.Fields(p.read(".ssh", "known_hosts")), p.must("key", "show", "stale", "--line").out
	key := own[1] + " " + own[2]
	stale := strings.Join(strings.Fields(other)[:2], " ")
	name := fmt.Sprintf("[127.0.0.1]:%d", p.host.SSHPort())
	p.write(sshknown.HashHostname(name)+" "+key+"\n"+name+" "+key+"\n"+sshknown.HashHostname("lantern.example")+" "+
		stale+"\n"+sshknown.HashHostname("never.example")+" "+stale+"\n"+name+" "+stale+
		"\nnonsense\n@revoked * "+stale+"\n*.plain.example "+stale+"\n", ".ssh", "known_hosts")
	p.write(p.read(".ssh", "config")+"\nHost lantern.example other.*\n  UserKnownHostsFile "+p.path(".ssh",
		"known_hosts")+"\n", ".ssh", "config")
	var look document.Look
	r := p.must("look", "hosts", "--json")
	if err := json.Unmarshal([]byte(r.out), &look); err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, s := range look.KnownHosts.Keys {
		text := s.Origin[strings.LastIndexByte(s.Origin, ':')+1:] + " " + strings.Join(s.HostNames, ",")
		if s.Hashed {
			text += " hashed"
		}
		if s.Fault != nil {
			text += " " + *s.Fault
		}
		got = append(got, text)
	}
	want := "1 forge hashed;2 forge doubled;3 lantern.example hashed;4  hashed;5 forge rival;7 forge,lantern.example revoked;8 "
	if strings.Join(got, ";") != want || len(look.KnownHosts.Unreadable) != 1 {
		t.Errorf("got  %s\nwant %s\nunreadable %q", strings.Join(got, ";"), want, look.KnownHosts.Unreadable)
	}
	text := p.must("look", "hosts").out
	for _, words := range []string{"forge (hashed)", "known_hosts:2 says the same as ~/.ssh/known_hosts:1",
		"one of them is stale", "known_hosts:6 says nothing to ssh", "a hashed name that nothing here names"} {
		if !strings.Contains(strings.Join(strings.Fields(text), " "), words) {
			t.Errorf("no %q: %s", words, text)
		}
	}
	p.edit("greeting = ", "host-keys = ["+fmt.Sprintf("%q", key)+"]\ngreeting = ", ".config", "unicrux",
		"hosts", "forge.toml")
	if r := p.must("look", "hosts"); !strings.Contains(r.out,
		"known_hosts:5 is not the key that the description of forge names") {
		t.Errorf("a wrong line: %s", r)
	}
}

// BenchmarkManyKnownHosts signs in with 100,000 lines of known hosts, half of them hashed,
// beside the real client with the same.
func BenchmarkManyKnownHosts(b *testing.B) {
	p := settled(b)
	line := strings.Fields(p.read(".ssh", "known_hosts"))
	var text strings.Builder
	for i := range 100_000 {
		name := fmt.Sprintf("buoy-%d.tidewater.example", i)
		if i%2 == 0 {
			name = sshknown.HashHostname(name)
		}
		fmt.Fprintf(&text, "%s %s %s\n", name, line[1], line[2])
	}
	p.write(text.String()+p.read(".ssh", "known_hosts"), ".ssh", "known_hosts")
	inPairs(b, func() { p.must("check", drift) }, func() { p.mustGit("ls-remote", drift) })
}
