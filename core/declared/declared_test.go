package declared

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/person"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/strict"
	"anchorage.example/unicrux/core/workstation"
)

// The keys of the examples.
const (
	oneKey   = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIDBj26xSRu9tUGOEIVb5tQ7cQxqZbs3puvBU1657z+91"
	otherKey = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIPcKSlRTP+aC34B7N6CrlC3Aa3JEPGLQP4eHzMHj+bSe"
)

const forge = "unicrux = 1\nname = \"forge\"\n[ssh]\nhost = \"forge.tidewater.example\"\nuser = \"git\"\nhost-keys = [\"" +
	otherKey + "\"]\n"

// files are what may stand beside a state.
var files = map[string]string{"forge.toml": forge, "policy.toml": "unicrux = 1\n", "ca.pem": "not looked at here",
	"twin.toml":   strings.Replace(forge, `"forge"`, `"twin"`, 1),
	"broken.toml": "unicrux = 1\nname = \"forge\"\n[shh]\n"}

// state reads a state from a folder of its own.
func state(t testing.TB, text string) (*State, error) {
	t.Helper()
	dir := t.TempDir()
	for name, text := range files {
		put(t, filepath.Join(dir, name), text)
	}
	path := filepath.Join(dir, "state.toml")
	put(t, path, text)
	return ReadFile(path)
}

func put(t testing.TB, path, text string) {
	t.Helper()
	if err := errors.Join(os.MkdirAll(filepath.Dir(path), 0o700), os.WriteFile(path, []byte(text), 0o600)); err != nil {
		t.Fatal(err)
	}
}

const whole = `unicrux = 1
fleet = "tidewater"
version = "2026-12-02"
policy = "policy.toml"
[[host]]
description = "forge.toml"
settings = { via = "gate.tidewater.example", port = 443, authority = "ca.pem" }
[[trust]]
authority = "` + oneKey + `"
hosts = ["*.tidewater.example", "[gate.tidewater.example]:2222"]
[[distrust]]
key = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIPF57nONlqh/1dfGBaLetrzYu2wLYgxzYKMGsZzwR535"
why = "rotated"
[[burned]]
fingerprint = "SHA256:AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA"
why = "left in a container image"
[git]
in-place = true
[absent]
hosts = ["old-forge"]
`

func TestWhole(t *testing.T) {
	t.Parallel()
	s, err := state(t, whole)
	if err != nil {
		t.Fatal(err)
	}
	h := s.Hosts[0]
	if s.Fleet != "tidewater" || s.Version != "2026-12-02" || string(s.Policy) != files["policy.toml"] ||
		h.Description.Name != "forge" || string(h.Text) != forge || string(h.Authority) != files["ca.pem"] ||
		len(h.Settings) != 2 || h.Settings["via"] != "gate.tidewater.example" || h.Settings["port"] != "443" ||
		!s.Trust[0].Authority || len(s.Trust[0].Names) != 2 || sshkey.Line(s.Trust[0].Keys[0], "") != oneKey ||
		s.Distrust[0].Why != "rotated" || len(s.Burned) != 1 || !s.InPlace || s.Absent[0] != "old-forge" {
		t.Errorf("%+v", s)
	}
}

// TestWrong: what is wrong with a state is said with its line, before anything is done.
func TestWrong(t *testing.T) {
	t.Parallel()
	trust := "unicrux = 1\n[[trust]]\nkeys = [\"" + oneKey + "\"]\nhosts = [\"x\"]\n"
	host := "unicrux = 1\n[[host]]\ndescription = \"forge.toml\"\n"
	for _, row := range []struct {
		text, says string
		line       int
	}{
		{"", "must be 1", 0},
		{"unicrux = 2\n", "must be 1", 1},
		{"unicrux = 1\nflet = \"x\"\n", `"fleet" was perhaps meant`, 2},
		{"unicrux = 1\nfleet = \"a\\nb\"\n", "one line", 2},
		{"unicrux = 1\npolicy = \"nowhere.toml\"\n", "nowhere.toml", 2},
		{"unicrux = 1\n[[host]]\n", "no description", 2},
		{"unicrux = 1\n[[host]]\ndescription = \"nowhere.toml\"\n", "nowhere.toml", 3},
		{"unicrux = 1\n[[host]]\ndescription = \"broken.toml\"\n", "broken.toml: line 3", 3},
		{host + "fingerprint = \"SHA256:x\"\n", "another file than the one that was reviewed", 4},
		{host + "settings = { via = true }\n", "a text in quotes", 4},
		{host + "settings = { via = \"\" }\n", "it is empty", 4},
		{host + "settings = { authority = \"nowhere.pem\" }\n", "nowhere.pem", 4},
		{host + host[len("unicrux = 1\n"):], "described twice", 4},
		{host + "[[host]]\ndescription = \"twin.toml\"\n", "described twice", 4},
		{host + "[absent]\nhosts = [\"forge\"]\n", "to be absent", 2},
		{host + "[[distrust]]\nkey = \"" + otherKey + "\"\nwhy = \"x\"\n", "distrusted", 2},
		{trust + "[[distrust]]\nkey = \"" + oneKey + "\"\nwhy = \"x\"\n", "distrusted", 2},
		{trust + "authority = \"" + oneKey + "\"\n", "of its own", 2},
		{"unicrux = 1\n[[trust]]\nhosts = [\"x\"]\n", "neither keys nor an authority", 2},
		{"unicrux = 1\n[[trust]]\nkeys = [\"" + oneKey + "\"]\n", "for which hosts", 2},
		{strings.Replace(trust, `["x"]`, `["x y"]`, 1), "is no host", 4},
		{strings.Replace(trust, `["x"]`, `["x,y"]`, 1), "is no host", 4},
		{strings.Replace(trust, `["x"]`, `["[x]"]`, 1), "is no host", 4},
		{strings.Replace(trust, `["x"]`, `["|1|x|y"]`, 1), "is no host", 4},
		{strings.Replace(trust, oneKey, "ssh-ed25519 AAAA", 1), "a public key", 2},
		{strings.Replace(trust, oneKey, oneKey+"\\n"+otherKey, 1), "a public key", 2},
		{"unicrux = 1\n[[distrust]]\nkey = \"" + oneKey + "\"\n", "no reason", 2},
		{"unicrux = 1\n[[burned]]\nfingerprint = \"MD5:x\"\nwhy = \"x\"\n", "a fingerprint", 3},
		{"unicrux = 1\n[[burned]]\nfingerprint = \"SHA256:" + strings.Repeat("A", 43) + "\"\n", "no reason", 2},
		{"unicrux = 1\n[absent]\nhosts = [\"../x\"]\n", "no name", 3},
	} {
		s, err := state(t, row.text)
		var wrong *strict.Error
		if s != nil || !errors.As(err, &wrong) || !strings.Contains(err.Error(), row.says) || wrong.Line != row.line {
			t.Errorf("%q: %v, want %q in line %d", row.text, err, row.says, row.line)
		}
	}
	if _, err := ReadFile(filepath.Join(t.TempDir(), "nowhere")); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("no file: %v", err)
	}
}

// TestKept: what was applied is known again, and a burned key is refused with the reason. What others could have
// written, or nobody understands, is an error: else a slip would allow what is forbidden.
func TestKept(t *testing.T) {
	t.Parallel()
	station := &workstation.Station{Person: person.Of(nil, t.TempDir())}
	station.Machine = t.TempDir()
	if kept, err := Read(station); err != nil || kept.Hash != "" {
		t.Errorf("nothing was applied: %+v %v", kept, err)
	}
	key, _, _ := sshkey.ParseLine([]byte(oneKey))
	path := File(station.Machine)
	put(t, path, strings.Replace(whole, "SHA256:"+strings.Repeat("A", 43), ssh.FingerprintSHA256(key), 1))
	kept, err := Read(station)
	if err != nil || kept.Fleet != "tidewater" || len(kept.Distrust) != 1 {
		t.Fatalf("%+v %v", kept, err)
	}
	if err := kept.Key(key); !errors.Is(err, ErrBurned) || !strings.Contains(err.Error(), "container image") {
		t.Errorf("burned: %v", err)
	}
	if other, _, _ := sshkey.ParseLine([]byte(otherKey)); kept.Key(other) != nil {
		t.Error("another key is refused")
	}
	if err := os.Chmod(path, 0o666); err != nil {
		t.Fatal(err)
	}
	if _, err := Read(station); !errors.Is(err, ErrUnreadable) {
		t.Errorf("anybody could have written it: %v", err)
	}
	for _, text := range []string{"unicrux = 1\nbrned = 1\n", "unicrux = 1\n[[distrust]]\nkey = \"x\"\nwhy = \"y\"\n"} {
		put(t, path, text)
		if err := os.Chmod(path, 0o600); err != nil {
			t.Fatal(err)
		}
		if _, err := Read(station); !errors.Is(err, ErrUnreadable) {
			t.Errorf("%q: %v", text, err)
		}
	}
}

// FuzzParse: whatever a state says, its patterns are single words, and each error has a message.
func FuzzParse(f *testing.F) {
	f.Add([]byte(whole))
	f.Add([]byte("unicrux = 1\n[[trust]]\nhosts = [\"a\\tb\"]\nkeys = [\"" + oneKey + "\"]\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		file, err := parse(text)
		if err != nil {
			if err.Error() == "" {
				t.Error("an error without words")
			}
			return
		}
		trust, distrust, err := file.keys()
		if err != nil {
			return
		}
		for _, one := range trust {
			for _, name := range one.Names {
				if strings.ContainsAny(name, " \t\r\n,|#") || name == "" {
					t.Errorf("the pattern %q", name)
				}
			}
		}
		for _, one := range distrust {
			if strings.ContainsAny(one.Why, "\r\n") {
				t.Errorf("the reason %q", one.Why)
			}
		}
	})
}
