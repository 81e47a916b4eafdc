package trust_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/knownhosts"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/trust"
	"anchorage.example/unicrux/fixture"
)

// TestHost stores the key of a host: the one that it publishes, or the one that was given, and no other.
func TestHost(t *testing.T) {
	t.Parallel()
	s := fixture.At(t, "forge")
	other := s.Key("other", "")
	at := fmt.Sprintf("127.0.0.1:%d", s.Host.SSHPort())
	for _, row := range []struct {
		name string
		want error
	}{
		{"forge", nil}, {at, trust.ErrUnpublished}, {"127.0.0.1:99999", address.ErrPort},
		{"no such host", hosts.ErrUnknown},
	} {
		result, err := trust.Host(t.Context(), s.Site, s.Batch(), row.name)
		if !errors.Is(err, row.want) || row.want == nil && (result.File == "" || result.Because == "") {
			t.Errorf("%s: %+v, %v", row.name, result, err)
		}
	}
	if again, err := trust.Host(t.Context(), s.Site, s.Batch(), "forge"); err != nil || !again.Already {
		t.Errorf("once more: %+v, %v", again, err)
	}
	s.Write("@revoked * "+s.Host.HostKeyLine()+"\n", ".ssh", "known_hosts")
	if _, err := trust.Host(t.Context(), s.Site, s.Batch(), "forge"); !errors.Is(err, trust.ErrRevoked) {
		t.Errorf("revoked: %v", err)
	}
	// Another key is stored: it makes room for the one that was compared.
	name := fmt.Sprintf("[127.0.0.1]:%d", s.Host.SSHPort())
	s.Write(knownhosts.Line(name, other.Public)+"\n", ".ssh", "known_hosts")
	if _, err := trust.Host(t.Context(), s.Site, s.Batch(), "forge"); err != nil {
		t.Fatal(err)
	}
	if text := s.Read(".ssh", "known_hosts"); strings.Count(text, name) != 1 ||
		!strings.Contains(text, strings.Fields(s.Host.HostKeyLine())[1]) {
		t.Errorf("stored:\n%s", text)
	}
	silent := *s.Description
	silent.SSH.HostKeys, silent.SSH.Fingerprints, silent.Operations = nil, nil, nil
	s.Registry.Hosts[0] = &silent
	if _, err := trust.Host(t.Context(), s.Site, s.Batch(), "forge"); !errors.Is(err, trust.ErrUnpublished) ||
		err.Error() != trust.ErrUnpublished.Error() {
		t.Errorf("described without keys: %v", err)
	}
	web := *s.Description
	web.SSH.Host = ""
	s.Registry.Hosts[0] = &web
	if _, err := trust.Host(t.Context(), s.Site, s.Batch(), "forge"); !errors.Is(err, hosts.ErrNoSSH) {
		t.Errorf("by HTTPS alone: %v", err)
	}
}

// TestNobodyThere: nothing is stored where nobody answers.
func TestNobodyThere(t *testing.T) {
	t.Parallel()
	s := fixture.At(t, "forge")
	if _, err := trust.Host(t.Context(), s.Site, s.Batch(), "127.0.0.1:1"); err == nil ||
		s.Read(".ssh", "known_hosts") != "" {
		t.Errorf("%v, stored %q", err, s.Read(".ssh", "known_hosts"))
	}
}

// TestGiven compares a host's keys with what a person says of one: whichever type that is, in whatever form.
func TestGiven(t *testing.T) {
	t.Parallel()
	s := fixture.At(t, "forge")
	at := fmt.Sprintf("127.0.0.1:%d", s.Host.SSHPort())
	seen, err := trust.Look(t.Context(), s.Site, at)
	if err != nil {
		t.Fatal(err)
	}
	print := s.Host.HostKeyPrint()
	for _, row := range []struct {
		text string
		want error
	}{
		{print, nil}, {strings.TrimPrefix(print, "SHA256:"), nil}, {s.Host.HostKeyLine(), nil},
		{ssh.FingerprintLegacyMD5(seen.Key), nil},
		{"SHA256:" + strings.Repeat("A", 43), trust.ErrOtherKey}, {"yes", sshkey.ErrClaim}, {"", sshkey.ErrClaim},
	} {
		voucher, err := seen.Given(t.Context(), row.text)
		if !errors.Is(err, row.want) || (voucher != nil) != (row.want == nil) {
			t.Errorf("%q: %+v, %v", row.text, voucher, err)
		}
	}
	if s.Read(".ssh", "known_hosts") != "" {
		t.Error("something is stored before anybody vouched")
	}
	if list := seen.Elsewhere(t.Context()); len(list) != 0 {
		t.Errorf("trusted elsewhere: %v", list)
	}
	// The same host under another name, and one that is only alike.
	s.Write("shore.tidewater.example "+s.Host.HostKeyLine()+"\nother.example "+
		sshkey.Line(s.Key("other", "").Public, "")+"\n@revoked gone.example "+s.Host.HostKeyLine()+"\n",
		".ssh", "known_hosts")
	list := seen.Elsewhere(t.Context())
	if len(list) != 1 || list[0].Hosts != "shore.tidewater.example" || list[0].Line != 1 {
		t.Fatalf("trusted elsewhere: %+v", list)
	}
	trusted, err := seen.Store(s.Batch(), trust.SameAs(list[0]))
	if err != nil || !strings.Contains(trusted.Because, "shore.tidewater.example") {
		t.Errorf("%+v, %v", trusted, err)
	}
	if again, err := trust.Look(t.Context(), s.Site, at); err != nil {
		t.Error(err)
	} else if stored, err := again.Store(s.Batch(), trust.SameAs(list[0])); err != nil || !stored.Already {
		t.Errorf("once more: %+v, %v", stored, err)
	}
}
