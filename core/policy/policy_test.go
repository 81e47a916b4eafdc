package policy

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/person"
	"anchorage.example/unicrux/core/strict"
	"anchorage.example/unicrux/core/workstation"
)

const tidewater = `unicrux = 1
name = "tidewater"
[rules]
key-no-passphrase = "must"
key-weak = { level = "must", rsa = 3072, kinds = ["ed25519", "rsa"] }
token-longest = { level = "must", days = 90 }
token-never-ends = "should"
chest-place = { level = "must", places = ["desktop", "sealed"] }
[[except]]
rule = "key-no-passphrase"
person = "lab"
until = 2026-11-30
why = "unattended buoy upload"
`

var today = time.Date(2026, 11, 30, 23, 59, 0, 0, time.UTC)

// at is a workstation of somebody's whose machine has a policy.
func at(t *testing.T, user, text string, now time.Time) *workstation.Station {
	t.Helper()
	machine := t.TempDir()
	if err := os.WriteFile(filepath.Join(machine, "policy.toml"), []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return &workstation.Station{Person: person.Person{User: user, UID: os.Getuid(), Machine: machine},
		Now: func() time.Time { return now }}
}

// TestForbids: only must forbids; what it says has the rule, what it asks for, and the file.
func TestForbids(t *testing.T) {
	t.Parallel()
	p, err := Read(at(t, "ines", tidewater, today))
	if err != nil {
		t.Fatal(err)
	}
	later := today.AddDate(0, 0, 91)
	for _, row := range []struct {
		err  error
		want string // "" for allowed
	}{
		{p.Key("ed25519", 256), ""},
		{p.Key("rsa", 3072), ""},
		{p.Key("rsa", 2048), "forbids an RSA key of 2048 bits; it allows 3072 and more (rule key-weak, " + p.File +
			")"},
		{p.Key("ecdsa", 256), "it allows ed25519, rsa"},
		{p.Unlocked(), "rule key-no-passphrase"},
		{p.Token(time.Time{}), ""}, // should
		{p.Token(today.AddDate(0, 0, 90)), ""},
		{p.Token(later), "it allows 90 days, so until 2027-02-28"},
		{p.Place("sealed"), ""},
		{p.Place("memory"), "it allows desktop, sealed"},
	} {
		switch {
		case row.want == "" && row.err != nil:
			t.Errorf("%v, want it allowed", row.err)
		case row.want != "" && (!errors.Is(row.err, ErrForbidden) || !strings.Contains(row.err.Error(), row.want)):
			t.Errorf("%v, want %q", row.err, row.want)
		}
	}
	none := p.Within(time.Time{})
	if got := p.Within(later); !got.Equal(p.Longest()) || !none.Equal(got) || !p.Within(today).Equal(today) {
		t.Errorf("ends: %s, %s", got, none)
	}
}

// TestExcept: an exception holds for its person through its last day, and not longer.
func TestExcept(t *testing.T) {
	t.Parallel()
	for _, row := range []struct {
		user    string
		now     time.Time
		allowed bool
	}{{"lab", today, true}, {"lab", today.Add(2 * time.Minute), false}, {"ines", today, false}} {
		p, err := Read(at(t, row.user, tidewater, row.now))
		if err != nil {
			t.Fatal(err)
		}
		if err := p.Unlocked(); (err == nil) != row.allowed {
			t.Errorf("%s at %s: %v", row.user, row.now, err)
		}
	}
}

// TestUnreadable: a policy that is there and cannot be used is an error, and not the empty policy.
func TestUnreadable(t *testing.T) {
	t.Parallel()
	none := &workstation.Station{Person: person.Person{Machine: t.TempDir()}, Now: time.Now}
	if p, err := Read(none); err != nil || p.Unlocked() != nil || !p.Longest().IsZero() || len(p.Places()) != 0 {
		t.Errorf("none: %v", err)
	}
	broken := at(t, "ines", "unicrux = 1\n[rules]\nkey-week = \"must\"\n", today)
	_, err := Read(broken)
	want := File(broken) + `: line 3: rules.key-week: a rule that is not known; "key-weak" was perhaps meant`
	if f := fault.Of(err); f == nil || f.Code != "policy-unreadable" || !strings.HasSuffix(err.Error(), want) {
		t.Errorf("broken: %v", err)
	}
	open := at(t, "ines", tidewater, today)
	if err := os.Chmod(File(open), 0o666); err != nil { //nolint:gosec // what anybody can write must not count
		t.Fatal(err)
	}
	if _, err := Read(open); !errors.Is(err, ErrUnreadable) {
		t.Errorf("anybody could have written it: %v", err)
	}
}

// TestParse: what is wrong is told with its line, and what was perhaps meant.
func TestParse(t *testing.T) {
	t.Parallel()
	for _, row := range []struct {
		text string
		line int
		want string
	}{
		{"", 0, "must be 1"},
		{"unicrux = 2\n", 1, "must be 1"},
		{"unicrux = 1\nrule = 2\n", 2, `"rules" was perhaps meant`},
		{"unicrux = 1\n[rules]\nkey-weak = \"must\"\n", 0, ""},
		{"unicrux = 1\n[rules]\ntoken-longest = \"must\"\n", 3, "does not say what is asked for: days"},
		{"unicrux = 1\n[rules]\ntoken-too-wide = { level = \"must\", scopes = [3] }\n", 3, "cannot be meant"},
		{"unicrux = 1\n[rules]\ncertificate-authority-unknown = { level = \"must\", authorities = [\"x\"] }\n", 3,
			"cannot be meant"},
		{"unicrux = 1\n[rules]\nkey-weak = \"off\"\n", 0, ""},
		{"unicrux = 1\n[rules]\nkey-no-passphrase = \"most\"\n", 3, `"must" was perhaps meant`},
		{"unicrux = 1\n[rules]\nkey-weak = { rsa = 3072 }\n", 3, "has no level"},
		{"unicrux = 1\n[rules]\nkey-weak = { level = \"must\", rsa = 0 }\n", 3, "number from 1"},
		{"unicrux = 1\n[rules]\nkey-weak = { level = \"must\", kinds = \"rsa\" }\n", 3, "list of ed25519"},
		{"unicrux = 1\n[rules]\nkey-weak = { level = \"must\", kinds = [\"rsb\"] }\n", 3, `"rsa" was perhaps meant`},
		{"unicrux = 1\n[rules]\nkey-weak = { level = \"must\", dyas = 2 }\n", 3, "does not know"},
		{"unicrux = 1\n[[except]]\nrule = \"key-weak\"\n", 2, "neither a person nor a thing"},
		{"unicrux = 1\n[[except]]\nrule = \"key-weak\"\nperson = \"lab\"\n", 2, "no end"},
		{"unicrux = 1\n[[except]]\nrule = \"key-weak\"\nperson = \"lab\"\nuntil = 2027-03-31\n", 2, "no reason"},
		{"unicrux = 1\n[[except]]\nrule = \"key-odd\"\n", 3, "not known"},
		{"unicrux = 1\n[rules\n", 2, ""},
	} {
		_, err := Parse([]byte(row.text))
		var wrong *strict.Error
		switch {
		case row.line == 0 && row.want == "":
			if err != nil {
				t.Errorf("%q: %v", row.text, err)
			}
		case !errors.As(err, &wrong) || wrong.Line != row.line || !strings.Contains(wrong.Message, row.want):
			t.Errorf("%q: %v, want line %d and %q", row.text, err, row.line, row.want)
		}
	}
}

// FuzzParse: any text is a policy or an *[strict.Error]; a policy knows only rules and levels that there are.
func FuzzParse(f *testing.F) {
	f.Add([]byte(tidewater))
	f.Fuzz(func(t *testing.T, text []byte) {
		p, err := Parse(text)
		var wrong *strict.Error
		if err != nil && !errors.As(err, &wrong) {
			t.Fatalf("%T: %v", err, err)
		}
		for code, rule := range p.Rules {
			if _, isKnown := Of(code); !isKnown || rule.Level == "" {
				t.Errorf("%s: %+v", code, rule)
			}
		}
	})
}
