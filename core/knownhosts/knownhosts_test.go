package knownhosts

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"
	sshknown "golang.org/x/crypto/ssh/knownhosts"
)

// hostKey makes a key that is always the same for the same seed.
func hostKey(t testing.TB, seed byte) ssh.PublicKey {
	t.Helper()
	private := ed25519.NewKeyFromSeed(bytes.Repeat([]byte{seed}, ed25519.SeedSize))
	key, err := ssh.NewPublicKey(private.Public())
	if err != nil {
		t.Fatal(err)
	}
	return key
}

func TestMatches(t *testing.T) {
	for _, row := range []struct {
		hosts, name string
		want        bool
	}{
		{"forge.tidewater.example", "forge.tidewater.example", true},
		{"Forge.Tidewater.Example", "forge.tidewater.EXAMPLE", true},
		{"forge.tidewater.example", "[forge.tidewater.example]:2222", false},
		{"[forge.tidewater.example]:2222", "[forge.tidewater.example]:2222", true},
		{"*.tidewater.example,!old.tidewater.example", "forge.tidewater.example", true},
		{"*.tidewater.example,!old.tidewater.example", "old.tidewater.example", false},
		{"a,10.0.0.?", "10.0.0.7", true},
		{sshknown.HashHostname("forge.tidewater.example"), "forge.tidewater.example", true},
		{sshknown.HashHostname("forge.tidewater.example"), "forge.saltmarsh.example", false},
		{sshknown.HashHostname("[forge]:2222"), "[forge]:2222", true},
	} {
		if got := (Entry{Hosts: row.hosts}).Matches(row.name); got != row.want {
			t.Errorf("%q matches %q: %v", row.hosts, row.name, got)
		}
	}
}

func TestJudge(t *testing.T) {
	one, two := hostKey(t, 1), hostKey(t, 2)
	for _, row := range []struct {
		name, text string
		want       Verdict
		line       int
	}{
		{"nothing stored", "", Unknown, 0},
		{"another host", Line("lantern", one), Unknown, 0},
		{"stored", "# c\n\n" + Line("forge", one), Trusted, 3},
		{"stored second", Line("forge", two) + "\n" + Line("forge", one), Trusted, 2},
		{"another key", Line("forge", two), Changed, 1},
		{"revoked wins", Line("forge", one) + "\n@revoked " + Line("*", one), KeyIsBanned, 2},
		{"a broken line is passed over", "forge ssh-ed25519\n" + Line("forge", one), Trusted, 2},
		{"an authority is no host key", "@cert-authority " + Line("forge", one), Unknown, 0},
	} {
		file := filepath.Join(t.TempDir(), "known_hosts")
		if err := os.WriteFile(file, []byte(row.text), 0o600); err != nil {
			t.Fatal(err)
		}
		known := Lookup([]string{file, file + "2"}, "forge")
		verdict, entry := known.Judge(one)
		if verdict != row.want || (entry != nil) != (row.line > 0) || (entry != nil && entry.Line != row.line) {
			t.Errorf("%s: verdict %d by %+v, want %d by line %d", row.name, verdict, entry, row.want, row.line)
		}
	}
}

// TestJudgeCertificates: whoever signed a host's certificate counts for it, for better and for worse.
func TestJudgeCertificates(t *testing.T) {
	signer, err := ssh.NewSignerFromKey(ed25519.NewKeyFromSeed(bytes.Repeat([]byte{3}, ed25519.SeedSize)))
	if err != nil {
		t.Fatal(err)
	}
	own, authority := hostKey(t, 1), hostKey(t, 3)
	certificate := &ssh.Certificate{Key: own, CertType: ssh.HostCert, ValidPrincipals: []string{"forge"},
		ValidBefore: ssh.CertTimeInfinity}
	if err := certificate.SignCert(rand.Reader, signer); err != nil {
		t.Fatal(err)
	}
	vouches := "@cert-authority " + Line("forge", authority)
	for _, row := range []struct {
		name, text string
		want       Verdict
		line       int
	}{
		{"by an authority that is stored", vouches, Trusted, 1},
		{"by one of another host", "@cert-authority " + Line("lantern", authority), Unknown, 0},
		{"the key in it is stored", Line("forge", own), Trusted, 1},
		{"the authority is revoked", vouches + "\n@revoked " + Line("*", authority), KeyIsBanned, 2},
		{"the key in it is revoked", vouches + "\n@revoked " + Line("*", own), KeyIsBanned, 2},
	} {
		file := filepath.Join(t.TempDir(), "known_hosts")
		if err := os.WriteFile(file, []byte(row.text), 0o600); err != nil {
			t.Fatal(err)
		}
		verdict, entry := Lookup([]string{file}, "forge").Judge(certificate)
		if verdict != row.want || (entry != nil) != (row.line > 0) || (entry != nil && entry.Line != row.line) {
			t.Errorf("%s: verdict %d by %+v, want %d by line %d", row.name, verdict, entry, row.want, row.line)
		}
	}
}

func TestBadLines(t *testing.T) {
	for text, want := range map[string]error{
		"forge ssh-ed25519":             ErrFields,
		"@trusted forge ssh-ed25519 AA": ErrMarker,
		"|1|x forge AAAA":               ErrHash,
		"forge ssh-ed25519 !!":          ErrKey,
		"forge ssh-rsa " + strings.Fields(Line("forge", hostKey(t, 1)))[2]: ErrKey,
		"forge " + strings.Repeat("x", maxLineBytes):                       ErrLong,
	} {
		entries, problems := Parse("f", []byte("\n"+text))
		if len(entries) != 0 || len(problems) != 1 || !errors.Is(problems[0].Err, want) || problems[0].Line != 2 {
			t.Errorf("%.40q: %v, %v; want %v in line 2", text, entries, problems, want)
		}
	}
}

func TestAddAndForget(t *testing.T) {
	one, two := hostKey(t, 1), hostKey(t, 2)
	text := "# mine\n" + Line("forge,10.0.0.7", one) + "\n" + Line("lantern", one) // no line end at the end
	added := Add([]byte(text), "forge", two)
	if want := text + "\n" + Line("forge", two) + "\n"; string(added) != want {
		t.Errorf("Add: %q, want %q", added, want)
	}
	if again := Add(added, "forge", two); !bytes.Equal(again, added) {
		t.Errorf("the second Add changed something: %q", again)
	}
	want := "# mine\n" + Line("10.0.0.7", one) + "\n" + Line("lantern", one) + "\n" + Line("forge", two) + "\n"
	if got := Forget(added, "forge", two); string(got) != want {
		t.Errorf("Forget: %q, want %q", got, want)
	}
	lone := Line(sshknown.HashHostname("forge"), one) + "\n"
	if got := Forget([]byte(lone), "forge", two); len(got) != 0 {
		t.Errorf("Forget left the hashed line: %q", got)
	}
}

func TestNames(t *testing.T) {
	file := filepath.Join(t.TempDir(), "known_hosts")
	text := Line("forge,[lantern]:2222,*.example", hostKey(t, 1)) + "\n" + Line(sshknown.HashHostname("hidden"),
		hostKey(t, 1)) + "\nbroken\n"
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	if got := strings.Join(Names([]string{file + "2", file}), " "); got != "forge lantern" {
		t.Errorf("%q", got)
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(Line("forge,!x,[y]:2", hostKey(f, 1)) + " why\n@revoked * ssh-rsa AAAA\n|1|AAAA|AAAA ssh-ed25519 A\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		entries, problems := Parse("f", text)
		if len(entries)+len(problems) > bytes.Count(text, []byte("\n"))+1 {
			t.Fatalf("more entries than lines in %q", text)
		}
		for _, entry := range entries {
			entry.Matches("forge")
			if added := Add(text, "forge", entry.Key); len(added) < len(text) {
				t.Fatalf("Add lost something of %q", text)
			}
		}
	})
}

// FuzzSkim: what is skimmed is taken apart to what [Parse] finds, line by line.
func FuzzSkim(f *testing.F) {
	f.Add([]byte("@revoked * " + sampleLine + "\n\t# no\nforge.tidewater.example  " + sampleLine +
		" of lamps\r\n|1|x|y z\n@x y\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		want, _ := Parse("f", text)
		var got []Entry
		for _, line := range Skim("f", text) {
			if entry, ok := line.Whole(); ok {
				if entry.Marker != line.Marker || entry.Hosts != line.Hosts || !line.Holds(Blob(entry.Key)) {
					t.Errorf("%q is skimmed as %q %q", line.raw, line.Marker, line.Hosts)
				}
				got = append(got, entry)
			}
		}
		if len(got) != len(want) {
			t.Fatalf("%d lines, and %d when skimmed", len(want), len(got))
		}
		for i := range want {
			if got[i].Origin() != want[i].Origin() || got[i].Comment != want[i].Comment {
				t.Errorf("%+v, want %+v", got[i], want[i])
			}
		}
	})
}

const sampleLine = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIDBj26xSRu9tUGOEIVb5tQ7cQxqZbs3puvBU1657z+91"
