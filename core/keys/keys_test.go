package keys_test

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/keys"
	"anchorage.example/unicrux/core/policy"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/workstation"
	"anchorage.example/unicrux/fixture"
)

func text(word string) secret.Text { return secret.New([]byte(word)) }

// TestNames: a key is never given the name of a file that ssh, or we, read as something else.
func TestNames(t *testing.T) {
	t.Parallel()
	s := fixture.Home(t)
	for name, want := range map[string]error{"forge_ed25519": nil, "a.b-c": nil, "config": keys.ErrName,
		"KNOWN_HOSTS": keys.ErrName, "authorized_keys": keys.ErrName, "x.pub": keys.ErrName,
		"-x": keys.ErrName, "x-": keys.ErrName, "a/b": keys.ErrName, "../x": keys.ErrName, "a b": keys.ErrName,
		"x\n": keys.ErrName, strings.Repeat("x", 101): keys.ErrName} {
		if err := (keys.NewKey{Name: name}).Check(s); !errors.Is(err, want) {
			t.Errorf("%q: %v", name, err)
		}
	}
}

func TestMakeAndFind(t *testing.T) {
	t.Parallel()
	s := fixture.At(t, "forge")
	pair := s.Key("mine", "")
	if pair.Locked || !strings.Contains(pair.Comment, "ines@driftwood ") || pair.Mode.Perm() != 0o600 {
		t.Errorf("%+v", pair)
	}
	if _, err := keys.Make(t.Context(), s.Site, s.Batch(), keys.NewKey{Name: "mine"}); !errors.Is(err,
		workstation.ErrExists) {
		t.Errorf("made twice: %v", err)
	}
	for name, want := range map[string]error{"mine.pub": keys.ErrPublic, "nowhere": keys.ErrNoKey,
		filepath.Join(s.Station.SSHDir(), "mine"): nil, "~/.ssh/mine": nil} {
		if _, err := keys.Find(s.Station, name); !errors.Is(err, want) {
			t.Errorf("%s: %v", name, err)
		}
	}
	s.Write(s.Read(".ssh", "mine.pub"), "lent.pub")
	if lent, err := keys.FindPublic(s.Station, filepath.Join(s.Station.Home, "lent.pub")); err != nil ||
		sshkey.Fingerprint(lent.Public) != sshkey.Fingerprint(pair.Public) {
		t.Errorf("a public key alone: %v", err)
	}
	made, err := keys.Make(t.Context(), s.Site, s.Batch(), keys.NewKey{Host: s.Description})
	if err != nil || made.Name() != "forge_ed25519" {
		t.Fatalf("%v, %v", made, err)
	}
	if ours := s.Read(".ssh", "unicrux.conf"); !strings.Contains(ours, "IdentityFile ~/.ssh/forge_ed25519") ||
		!strings.Contains(ours, "IdentitiesOnly yes") {
		t.Errorf("settings of the host:\n%s", ours)
	}
	use, err := keys.UseOf(t.Context(), s.Site, made, s.Host.Hostname())
	if err != nil || !use.Offered || !use.Ours {
		t.Errorf("%+v, %v", use, err)
	}
	if use, err := keys.UseOf(t.Context(), s.Site, pair, s.Host.Hostname()); err != nil || use.Offered {
		t.Errorf("another key: %+v, %v", use, err)
	}
}

// TestUndo gives back what was there before a key was made.
func TestUndo(t *testing.T) {
	t.Parallel()
	s := fixture.At(t, "forge")
	batch := s.Batch()
	if _, err := keys.Make(t.Context(), s.Site, batch, keys.NewKey{Name: "mine"}); err != nil {
		t.Fatal(err)
	}
	for _, step := range batch.Change().Steps {
		if strings.Contains(step.Summary, "PRIVATE") {
			t.Errorf("a secret in the record: %+v", step)
		}
	}
	for _, path := range []string{"mine", "mine.pub"} {
		if _, err := os.Stat(filepath.Join(s.Station.SSHDir(), path)); err != nil {
			t.Error(err)
		}
	}
}

func TestRelockAndSave(t *testing.T) {
	t.Parallel()
	s := fixture.At(t, "forge")
	pair := s.Key("mine", "first word")
	if err := keys.Relock(s.Site, s.Batch(), pair, text("wrong"), text("second")); !errors.Is(err,
		sshkey.ErrPassphrase) {
		t.Errorf("with a wrong passphrase: %v", err)
	}
	if err := keys.Relock(s.Site, s.Batch(), pair, text("first word"), text("second word")); err != nil {
		t.Fatal(err)
	}
	pair, err := keys.Find(s.Station, "mine")
	if err != nil || !pair.Locked {
		t.Fatalf("%+v, %v", pair, err)
	}
	if _, err := pair.Signer(text("second word")); err != nil {
		t.Errorf("the new passphrase: %v", err)
	}
	for _, form := range sshkey.Forms() {
		out := filepath.Join(s.Station.Home, "saved-"+string(form))
		err := keys.Save(s.Site, s.Batch(), pair, form, out, text("second word"), secret.Text{})
		if form == sshkey.RFC4716 || form == sshkey.OpenSSH || form == sshkey.PKCS8 {
			if err != nil {
				t.Errorf("%s: %v", form, err)
			}
		} else if err == nil { // the older forms have no Ed25519
			t.Errorf("%s took a key that it has no room for", form)
		}
	}
	if err := keys.Save(s.Site, s.Batch(), pair, sshkey.OpenSSH, filepath.Join(s.Station.Home, "saved-openssh"),
		text("second word"), secret.Text{}); !errors.Is(err, workstation.ErrExists) {
		t.Errorf("over another file: %v", err)
	}
	plain := s.Key("plain", "")
	if err := keys.Relock(s.Site, s.Batch(), plain, secret.Text{}, secret.Text{}); err != nil {
		t.Errorf("no passphrase, still: %v", err)
	}
}

// TestLoad puts a key into the holder, makes the settings lead there, and takes it out again.
func TestLoad(t *testing.T) {
	t.Parallel()
	s := fixture.At(t, "forge").WithHolder()
	pair := s.Key("mine", "a word")
	batch := s.Batch()
	if err := keys.SetUse(t.Context(), s.Site, batch, s.Host.Hostname(), pair); err != nil {
		t.Fatal(err)
	}
	if ours := s.Read(".ssh", "unicrux.conf"); !strings.Contains(ours, "holder start --quiet") {
		t.Errorf("a locked key, and nobody holds it:\n%s", ours)
	}
	if _, err := keys.Load(t.Context(), s.Site, s.Batch(),
		keys.Loading{Pair: pair, Passphrase: text("wrong")}); !errors.Is(err, sshkey.ErrPassphrase) {
		t.Errorf("a wrong passphrase: %v", err)
	}
	loaded, err := keys.Load(t.Context(), s.Site, s.Batch(),
		keys.Loading{Pair: pair, Passphrase: text("a word"), Lifetime: time.Hour, HostName: s.Host.Hostname()})
	if err != nil || !loaded.Holder || !strings.Contains(loaded.Words("mine"), "mine") {
		t.Fatalf("%+v, %v", loaded, err)
	}
	if sockets, err := keys.Unload(t.Context(), s.Site, pair); err != nil || len(sockets) != 1 {
		t.Errorf("%v, %v", sockets, err)
	}
	if sockets, err := keys.Unload(t.Context(), s.Site, pair); err != nil || len(sockets) != 0 {
		t.Errorf("once more: %v, %v", sockets, err)
	}
	if err := keys.HoldOnly(t.Context(), s.Site, pair, text("a word")); err != nil {
		t.Error(err)
	}
	lonely := s.Key("lonely", "a word")
	if _, err := keys.Load(t.Context(), s.Site, s.Batch(),
		keys.Loading{Pair: lonely, Passphrase: text("a word")}); !errors.Is(err, keys.ErrNoAgent) {
		t.Errorf("a key that nobody uses: %v", err)
	}
}

func TestKeysWithoutAHostOfSSH(t *testing.T) {
	t.Parallel()
	s := fixture.At(t, "forge")
	web := *s.Description
	web.SSH.Host = ""
	if err := (keys.NewKey{Host: &web}).Check(s.Station); !errors.Is(err, hosts.ErrNoSSH) {
		t.Errorf("%v", err)
	}
}

// TestKept: what is not at the desktop is not taken for kept.
func TestKept(t *testing.T) {
	t.Parallel()
	s := fixture.At(t, "forge")
	pair := s.Key("mine", "a word")
	if keys.PassphraseKept(s.Site, pair) {
		t.Error("kept, and nobody kept it")
	}
	if _, kept := keys.KeptPassphrase(s.Site, pair); kept {
		t.Error("it comes from nowhere")
	}
	if forgot, err := keys.ForgetPassphrase(s.Site, s.Batch(), pair); forgot || err != nil {
		t.Errorf("forgot %v, %v", forgot, err)
	}
	if err := keys.FollowLock(s.Site, s.Batch(), pair, text("other")); err != nil {
		t.Error(err)
	}
}

// TestPolicy: neither a new key, nor one in another form, nor one whose passphrase is taken off is without a passphrase
// where the policy of the machine forbids it; a dry run of a new key, which asks for none, is no such key.
func TestPolicy(t *testing.T) {
	t.Parallel()
	s := fixture.At(t, "forge")
	pair := s.Key("mine", "seven tides")
	before := s.Read(".ssh", "mine")
	s.Write("unicrux = 1\n[rules]\nkey-no-passphrase = \"must\"\nkey-weak = { level = \"must\", kinds = [\"ed25519\"] }\n",
		".machine", "policy.toml")
	old, none := text("seven tides"), secret.Text{}
	for name, err := range map[string]error{
		"new":          second(keys.Make(t.Context(), s.Site, s.Batch(), keys.NewKey{Name: "bare"})),
		"another type": keys.NewKey{Name: "curve", Kind: sshkey.ECDSA}.Check(s.Station),
		"taken off":    keys.Relock(s.Site, s.Batch(), pair, old, none),
		"another form": keys.Save(s.Site, s.Batch(), pair, sshkey.PKCS8, "mine.pem", old, none),
	} {
		if !errors.Is(err, policy.ErrForbidden) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if s.Read(".ssh", "mine") != before {
		t.Error("the key was written again")
	}
	dry := s.Station.Begin("A change of a test.", true)
	for name, err := range map[string]error{
		"with one": second(keys.Make(t.Context(), s.Site, s.Batch(), keys.NewKey{Name: "locked", Passphrase: old})),
		"another":  keys.Relock(s.Site, s.Batch(), pair, old, text("eight tides")),
		"dry":      second(keys.Make(t.Context(), s.Site, dry, keys.NewKey{Name: "bare"})),
	} {
		if err != nil {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func second[T any](_ T, err error) error { return err }
