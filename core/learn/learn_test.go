package learn_test

import (
	"errors"
	"slices"
	"strings"
	"testing"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/learn"
	"anchorage.example/unicrux/fixture"
)

func TestName(t *testing.T) {
	t.Parallel()
	for _, row := range []struct {
		host, want string
		taken      []string
	}{
		{"forge.tidewater.example", "forge", nil},
		{"git.saltmarsh.example", "saltmarsh", nil},
		{"code.lanternfish.example", "lanternfish", nil},
		{"GIT.Saltmarsh.example", "saltmarsh", nil},
		{"git.saltmarsh.example", "saltmarsh-git", []string{"saltmarsh"}},
		{"forge.tidewater.example", "forge-tidewater", []string{"forge"}},
		{"forge.tidewater.example", "forge-2", []string{"forge", "forge-tidewater"}},
		{"saltmarsh.example", "saltmarsh", nil},
		{"git.example", "git", nil},
		{"reef", "reef", nil},
		{"localhost", "localhost", nil},
		{"127.0.0.1", "host-127-0-0-1", nil},
		{"::1", "host-1", nil},
		{"3tides.example", "host-3tides", nil},
		{"a-very-long-name-of-a-host-of-the-harbour.example", "a-very-long-name-of-a-host", nil},
		{"-", "host", nil},
	} {
		got := learn.Name(row.host, func(name string) bool { return slices.Contains(row.taken, name) })
		if got != row.want {
			t.Errorf("%s beside %s: %q, want %q", row.host, row.taken, got, row.want)
		}
	}
}

// TestHost: what a clone URL says of a host, and nothing that it does not.
func TestHost(t *testing.T) {
	t.Parallel()
	s := fixture.At(t, "forge")
	s.Write("Host reef\n  HostName code.reef.example\n  User keeper\n  Port 2200\n", ".ssh", "config")
	for _, row := range []struct {
		url, name string
		want      []string // lines
		err       error
	}{
		{"git@git.saltmarsh.example:buoys/x.git", "",
			[]string{"name = 'saltmarsh'", "host = 'git.saltmarsh.example'", "user = 'git'"}, nil},
		{"ssh://ines@code.reef.example:2222/x", "", []string{"user = 'ines'", "port = 2222"}, nil},
		{"reef:buoys/x", "", []string{"name = 'reef'", "host = 'reef'", "user = 'keeper'"}, nil},
		{"https://code.reef.example/x.git", "keel",
			[]string{"name = 'keel'", "url = 'https://code.reef.example/'", "username = '{account}'"}, nil},
		{"https://code.reef.example:8443/x.git", "", []string{"url = 'https://code.reef.example:8443/'"}, nil},
		{"https://[::1]:8443/x.git", "", []string{"url = 'https://[::1]:8443/'"}, nil},
		{"ssh://git@[::1]:2222/x.git", "", []string{"host = '::1'"}, nil},
		{"http://code.reef.example/x.git", "", nil, learn.ErrPlain},
		{"git://code.reef.example/x.git", "", nil, learn.ErrTransport},
		{"git@code.reef.example:x", "Reef!", nil, learn.ErrName},
		{"git@code.reef.example:x", "forge", nil, learn.ErrName},
		{"git@forge.tidewater.example:x", "", nil, learn.ErrDescribed},
		{"https://forge.tidewater.example/x", "", nil, learn.ErrDescribed},
	} {
		a, err := address.Parse(row.url)
		if err != nil {
			t.Fatal(err)
		}
		source, err := learn.Host(t.Context(), s.Site, a, row.name)
		if !errors.Is(err, row.err) {
			t.Errorf("%s: %v", row.url, err)
		}
		for _, line := range row.want {
			if !slices.Contains(strings.Split(string(source.Text), "\n"), line) {
				t.Errorf("%s: no %q in\n%s", row.url, line, source.Text)
			}
		}
	}
}

// TestAgain: a learned host learns its other transport, keeps its name, and makes room for a description that somebody
// wrote; ssh config stays as the person has it.
func TestAgain(t *testing.T) {
	t.Parallel()
	s := fixture.At(t, "forge")
	s.Write("# mine\n", ".ssh", "config")
	learned := func(url, name string) error {
		t.Helper()
		s.Reload()
		a, err := address.Parse(url)
		if err != nil {
			t.Fatal(err)
		}
		source, err := learn.Host(t.Context(), s.Site, a, name)
		if err == nil {
			err = hosts.Add(s.Batch(), s.Station, source)
		}
		s.Reload()
		return err
	}
	if err := learned("ssh://git@code.reef.example:2222/x", ""); err != nil {
		t.Fatal(err)
	}
	if err := learned("git@code.reef.example:other", ""); !errors.Is(err, learn.ErrDescribed) {
		t.Errorf("nothing new: %v", err)
	}
	if err := learned("https://code.reef.example/x.git", "keel"); !errors.Is(err, learn.ErrName) {
		t.Errorf("another name: %v", err)
	}
	if err := learned("https://code.reef.example/x.git", ""); err != nil {
		t.Fatal(err)
	}
	d, err := s.Registry.Find("reef")
	if err != nil || !d.IsLearned() || d.SSH.Port != 2222 || d.HTTPS.URL != "https://code.reef.example/" {
		t.Errorf("%+v, %v", d, err)
	}
	if got := s.Read(".ssh", "unicrux.conf"); strings.Contains(got, "reef") && strings.Contains(got, "2222") {
		t.Errorf("ssh HOST would lead elsewhere: %s", got)
	}
	written, err := hosts.Get(t.Context(), s.Station, s.Write(
		"unicrux = 1\nname = \"keel\"\n[ssh]\nhost = \"code.reef.example\"\nuser = \"git\"\n", "keel.toml"))
	if err == nil {
		err = hosts.Add(s.Batch(), s.Station, written)
	}
	if s.Reload(); err != nil {
		t.Fatal(err)
	}
	if err := learned("https://code.reef.example/x.git", ""); !errors.Is(err, learn.ErrDescribed) {
		t.Errorf("what somebody described is learned over: %v", err)
	}
	if _, err := s.Registry.Find("reef"); err == nil || s.Registry.ForHost("code.reef.example").Name != "keel" {
		t.Errorf("what was learned is there still: %v", err)
	}
}
