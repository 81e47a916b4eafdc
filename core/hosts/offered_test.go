package hosts

import (
	"os"
	"testing"

	"anchorage.example/unicrux/core/describe"
)

// TestSpeaksForItself holds for which hosts the one that hands out a description can speak.
func TestSpeaksForItself(t *testing.T) {
	for _, row := range []struct{ at, ssh, web, other string }{
		{"code.reef.example", "code.reef.example", "", ""},
		{"code.reef.example", "ssh.reef.example", "https://code.reef.example/", ""},
		{"code.reef.example:8443", "ssh.reef.example", "https://code.reef.example:8443/", ""},
		{"CODE.reef.example", "code.reef.example", "https://code.reef.example/", ""},
		{"code.reef.example", "forge.tidewater.example", "https://code.reef.example/", "forge.tidewater.example"},
		{"code.reef.example", "code.reef.example", "https://forge.tidewater.example/", "forge.tidewater.example"},
		{"code.reef.example", "other.reef.example", "https://other.reef.example/", "other.reef.example"},
		{"reef.example", "tidewater.example", "https://reef.example/", "tidewater.example"},
		{"127.0.0.1:8443", "127.0.0.1", "https://127.0.0.1:8443/", ""},
		{"127.0.0.1", "127.1.0.1", "https://127.0.0.1/", "127.1.0.1"},
	} {
		d := &describe.Description{}
		d.SSH.Host, d.HTTPS.URL = row.ssh, row.web
		if got := otherThan(row.at, d); got != row.other {
			t.Errorf("%s hands out %s and %s: %q, want %q", row.at, row.ssh, row.web, got, row.other)
		}
	}
}

// TestSecretsInAddressesAreNotKept holds that an address from which a description came is kept only without a secret.
func TestSecretsInAddressesAreNotKept(t *testing.T) {
	for from, kept := range map[string]bool{
		"https://code.reef.example/forge.toml":            true,
		"https://code.reef.example/forge.toml?key=abcdef": false,
		"https://code.reef.example/forge.toml#abcdef":     false,
	} {
		station := here(t)
		batch := station.Begin("Describe.", false)
		d := &describe.Description{Name: "reef"}
		if err := keepFrom(batch, station, Source{Description: d, From: from, FromWeb: true}); err != nil {
			t.Fatal(err)
		}
		if _, err := os.Stat(fromFile(station, d)); (err == nil) != kept {
			t.Errorf("%s: kept is %v", from, err == nil)
		}
	}
}
