package gitanswer

import (
	"errors"
	"os"
	"path/filepath"
	"testing"
	"time"

	"anchorage.example/unicrux/core/chest"
	"anchorage.example/unicrux/core/lifetime"
	"anchorage.example/unicrux/core/origin"
	"anchorage.example/unicrux/core/person"
	"anchorage.example/unicrux/core/query"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/core/workstation"
)

// TestDesk asks what the holder knows by itself, and what it leaves to others.
func TestDesk(t *testing.T) {
	t.Parallel()
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	home := t.TempDir()
	s := &workstation.Station{Person: person.Of([]string{"HOME=" + home}, home), Now: func() time.Time { return now }}
	d := NewDesk(s, lifetime.System(s.Now))
	words := secret.New([]byte("seven tides"))
	if _, err := d.chest.Lock(t.Context(), secret.Text{}, words); err != nil {
		t.Fatal(err)
	}
	for name, e := range map[string]chest.Entry{
		"plain":  {Proved: now.Add(-time.Hour)},
		"later":  {Until: now.AddDate(0, 2, 0)},
		"soon":   {Until: now.AddDate(0, 0, 5)},
		"ended":  {Until: now.AddDate(0, 0, -2)},
		"signed": {Until: now.Add(time.Hour), Signed: true},
		"stale":  {Until: now.Add(time.Second), Signed: true},
		"broken": {},
		"reads":  {Purposes: []string{"clone"}},
		"pushes": {Purposes: []string{"clone", "push"}},
		"moved":  {Places: []origin.Place{{Origin: "https://moved.tidewater.example:443", Address: "127.0.0.9"}}},
	} {
		e.Name, e.Protocol, e.At, e.User = name, "https", name+".tidewater.example", "ines"
		if e.Places == nil {
			e.Places = []origin.Place{{Origin: origin.Web(e.At)}}
		}
		token := "token-of-" + name
		if name == "broken" {
			token += "\n"
		}
		if _, err := d.chest.Put(e, chest.Secret{Token: secret.New([]byte(token))}); err != nil {
			t.Fatal(err)
		}
	}
	ask := func(data, action, text string) (string, error) {
		answer, err := d.Answer(query.ForGit, query.GitQuestion{Data: data, Action: action, Said: []byte(text)}.Text())
		return string(answer), err
	}
	const plain = "protocol=https\nhost=plain.tidewater.example\n"
	if got, err := ask(s.Data, "get", plain); err == nil {
		t.Errorf("from a closed chest: %q", got)
	}
	key, err := chest.Of(s).Open(t.Context(), words)
	if err != nil {
		t.Fatal(err)
	}
	if err := d.Open(key, time.Hour); err != nil {
		t.Fatal(err)
	}
	for _, row := range []struct {
		name, data, text, want string
		long                   bool // left to the long way
	}{
		{"a token", s.Data, plain, "username=ines\npassword=token-of-plain\n", false},
		{"one that ends one day", s.Data, "protocol=https\nhost=later.tidewater.example\n\n",
			"username=ines\npassword=token-of-later\npassword_expiry_utc=1800705600\n", false},
		{"one by which somebody signed in", s.Data, "protocol=https\nhost=signed.tidewater.example\n",
			"username=ines\npassword=token-of-signed\npassword_expiry_utc=1795438800\n", false},
		{"nothing known", s.Data, "protocol=https\nhost=other.example\n", "", false},
		{"plain http", s.Data, "protocol=http\nhost=plain.tidewater.example\n", "", false},
		{"another user", s.Data, plain + "username=chair\n", "", false},
		{"one to be spoken of", s.Data, "protocol=https\nhost=soon.tidewater.example\n", "", true},
		{"one that ended", s.Data, "protocol=https\nhost=ended.tidewater.example\n", "", true},
		{"one to be renewed", s.Data, "protocol=https\nhost=stale.tidewater.example\n", "", true},
		{"one that git's protocol has no place for", s.Data,
			"protocol=https\nhost=broken.tidewater.example\n", "", true},
		{"one that may not push", s.Data, "protocol=https\nhost=reads.tidewater.example\n", "", true},
		{"one that may", s.Data, "protocol=https\nhost=pushes.tidewater.example\n",
			"username=ines\npassword=token-of-pushes\n", false},
		{"one that was kept for another place", s.Data, "protocol=https\nhost=moved.tidewater.example\n", "", true},
		{"another chest", home, plain, "", true},
		{"no question", s.Data, "hello\n", "", true},
	} {
		if got, err := ask(row.data, "get", row.text); got != row.want || (err != nil) != row.long {
			t.Errorf("%s: %q, %v", row.name, got, err)
		}
	}
	for _, row := range []struct {
		name, text string
		long       bool
	}{
		{"proved today", plain + "username=ines\npassword=token-of-plain\n", false},
		{"proved long ago", "protocol=https\nhost=later.tidewater.example\nusername=ines\npassword=token-of-later\n", true},
		{"another secret", plain + "username=ines\npassword=another\n", true},
		{"another user's", plain + "username=chair\npassword=token-of-plain\n", true},
		{"of a host not known", "protocol=https\nhost=other.example\nusername=ines\npassword=x\n", true},
		{"over plain http", "protocol=http\nhost=plain.tidewater.example\nusername=ines\npassword=x\n", false},
		{"without a password", plain + "username=ines\n", false},
	} {
		if got, err := ask(s.Data, "store", row.text); got != "" || (err != nil) != row.long {
			t.Errorf("store, %s: %q, %v", row.name, got, err)
		}
	}
	if got, err := ask(s.Data, "erase", plain); err == nil {
		t.Errorf("erase: %q", got)
	}
	// A description that leads elsewhere, written into its folder by whoever may: nothing goes there.
	description := filepath.Join(s.Config, "hosts", "plain.toml")
	if err := errors.Join(os.MkdirAll(filepath.Dir(description), 0o700),
		os.WriteFile(description,
			[]byte("unicrux = 1\nname = \"plain\"\n[ssh]\nhost = \"plain.tidewater.example\"\nuser = \"git\"\n[https]\naddress = \"127.0.0.66\"\n"), 0o600)); err != nil {
		t.Fatal(err)
	}
	if got, err := ask(s.Data, "get", plain); err == nil {
		t.Errorf("to where another description leads: %q", got)
	}
	if err := os.Remove(description); err != nil {
		t.Fatal(err)
	}
	if got, err := ask(s.Data, "get", plain); err != nil || got == "" {
		t.Errorf("without it again: %q, %v", got, err)
	}
	d.RemoveAll()
	if got, err := ask(s.Data, "get", plain); err == nil {
		t.Errorf("after it forgot: %q", got)
	}
}
