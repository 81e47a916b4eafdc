package trust_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/knownhosts"
	"anchorage.example/unicrux/core/trust"
	"anchorage.example/unicrux/fixture"
)

// TestHost stores the key of a host: the one that it publishes, or the one that was given, and no other.
func TestHost(t *testing.T) {
	t.Parallel()
	s := fixture.At(t, "forge")
	other := s.Key("other", "")
	for _, row := range []struct {
		name, fingerprint string
		want              error
	}{
		{"forge", "SHA256:" + strings.Repeat("A", 43), trust.ErrOtherKey},
		{"forge", s.Host.HostKeyPrint(), nil},
		{"forge", "", nil},
		{fmt.Sprintf("127.0.0.1:%d", s.Host.SSHPort()), "", trust.ErrUnpublished},
		{fmt.Sprintf("127.0.0.1:%d", s.Host.SSHPort()), s.Host.HostKeyPrint(), nil},
		{"127.0.0.1:99999", "", address.ErrPort},
		{"no such host", "", hosts.ErrUnknown},
	} {
		result, err := trust.Host(t.Context(), s.Site, s.Batch(), row.name, row.fingerprint)
		if !errors.Is(err, row.want) || row.want == nil && (result.File == "" || result.Because == "") {
			t.Errorf("%s %s: %+v, %v", row.name, row.fingerprint, result, err)
		}
	}
	if again, err := trust.Host(t.Context(), s.Site, s.Batch(), "forge", ""); err != nil || !again.Already {
		t.Errorf("once more: %+v, %v", again, err)
	}
	s.Write("@revoked * "+s.Host.HostKeyLine()+"\n", ".ssh", "known_hosts")
	if _, err := trust.Host(t.Context(), s.Site, s.Batch(), "forge", ""); !errors.Is(err, trust.ErrRevoked) {
		t.Errorf("revoked: %v", err)
	}
	// Another key is stored: it makes room for the one that was compared.
	name := fmt.Sprintf("[127.0.0.1]:%d", s.Host.SSHPort())
	s.Write(knownhosts.Line(name, other.Public)+"\n", ".ssh", "known_hosts")
	if _, err := trust.Host(t.Context(), s.Site, s.Batch(), "forge", ""); err != nil {
		t.Fatal(err)
	}
	if text := s.Read(".ssh", "known_hosts"); strings.Count(text, name) != 1 ||
		!strings.Contains(text, strings.Fields(s.Host.HostKeyLine())[1]) {
		t.Errorf("stored:\n%s", text)
	}
	silent := *s.Description
	silent.SSH.HostKeys, silent.SSH.Fingerprints, silent.Operations = nil, nil, nil
	s.Registry.Hosts[0] = &silent
	if _, err := trust.Host(t.Context(), s.Site, s.Batch(), "forge", ""); !errors.Is(err, trust.ErrUnpublished) ||
		err.Error() != trust.ErrUnpublished.Error() {
		t.Errorf("described without keys: %v", err)
	}
	web := *s.Description
	web.SSH.Host = ""
	s.Registry.Hosts[0] = &web
	if _, err := trust.Host(t.Context(), s.Site, s.Batch(), "forge", ""); !errors.Is(err, hosts.ErrNoSSH) {
		t.Errorf("by HTTPS alone: %v", err)
	}
}

// TestNobodyThere: nothing is stored where nobody answers.
func TestNobodyThere(t *testing.T) {
	t.Parallel()
	s := fixture.At(t, "forge")
	if _, err := trust.Host(t.Context(), s.Site, s.Batch(), "127.0.0.1:1", ""); err == nil ||
		s.Read(".ssh", "known_hosts") != "" {
		t.Errorf("%v, stored %q", err, s.Read(".ssh", "known_hosts"))
	}
}
