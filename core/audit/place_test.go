package audit

import (
	"crypto/rand"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/apply"
	"anchorage.example/unicrux/core/chest"
	"anchorage.example/unicrux/core/declared"
	"anchorage.example/unicrux/core/person"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/workstation"
)

var today = time.Date(2026, 12, 1, 12, 0, 0, 0, time.UTC)

// A place is a machine with one home on it.
type place struct {
	*testing.T

	home, machine string
}

func here(t *testing.T) place {
	t.Helper()
	dir, err := filepath.EvalSymlinks(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	p := place{T: t, home: filepath.Join(dir, "ines"), machine: filepath.Join(dir, "etc")}
	for _, folder := range []string{p.home, filepath.Join(p.home, ".ssh"), filepath.Join(p.machine, "hosts")} {
		if err := os.MkdirAll(folder, 0o700); err != nil {
			t.Fatal(err)
		}
	}
	return p
}

// put writes a file of the home, for its owner alone.
func (p place) put(text, name string) {
	p.Helper()
	path := filepath.Join(p.home, name)
	if err := errors.Join(os.MkdirAll(filepath.Dir(path), 0o700), os.WriteFile(path, []byte(text), 0o600)); err != nil {
		p.Fatal(err)
	}
}

// key makes a pair in the home.
func (p place) key(name string, spec sshkey.Spec) *sshkey.Made {
	p.Helper()
	made, err := sshkey.Make(spec)
	if err != nil {
		p.Fatal(err)
	}
	p.put(string(made.Private), name)
	p.put(string(made.Public), name+".pub")
	return made
}

func (p place) station() *workstation.Station {
	s := person.Of([]string{"HOME=" + p.home}, p.home)
	s.Machine, s.User = p.machine, "ines"
	return &workstation.Station{Person: s, Computer: "driftwood", Folder: p.home,
		Now: func() time.Time { return today }}
}

func (p place) chmod(mode os.FileMode, name string) {
	p.Helper()
	if err := os.Chmod(filepath.Join(p.home, name), mode); err != nil {
		p.Fatal(err)
	}
}

func (p place) drop(name string) {
	p.Helper()
	if err := os.RemoveAll(filepath.Join(p.home, name)); err != nil {
		p.Fatal(err)
	}
}

func (p place) link(to, name string) {
	p.Helper()
	if err := os.Symlink(to, filepath.Join(p.home, name)); err != nil {
		p.Fatal(err)
	}
}

func (p place) aged(days int, name string) {
	p.Helper()
	at := today.AddDate(0, 0, -days)
	if err := os.Chtimes(filepath.Join(p.home, name), at, at); err != nil {
		p.Fatal(err)
	}
}

func (p place) git(args ...string) {
	p.Helper()
	cmd := exec.Command("git", append([]string{"-C", filepath.Join(p.home, "buoys")}, args...)...)
	cmd.Env = []string{"HOME=" + p.home, "PATH=" + os.Getenv("PATH"), "GIT_CONFIG_NOSYSTEM=1"}
	if out, err := cmd.CombinedOutput(); err != nil {
		p.Fatalf("%v: %s", err, out)
	}
}

// describe lets the administrator describe a host.
func (p place) describe(text string) {
	p.Helper()
	if err := os.WriteFile(filepath.Join(p.machine, "hosts", "forge.toml"), []byte(text), 0o600); err != nil {
		p.Fatal(err)
	}
}

// places are where the machine keeps what holds for everybody.
func (p place) places() apply.Places {
	return apply.Places{Machine: p.machine, SSH: p.machine + "-ssh", Git: p.machine + "-gitconfig"}
}

// apply settles the machine as a state declares; a file of the state's folder may come along.
func (p place) apply(text string, beside ...string) {
	p.Helper()
	dir := p.TempDir()
	path := filepath.Join(dir, "state.toml")
	err := errors.Join(os.WriteFile(path, []byte("unicrux = 1\n"+text), 0o600), os.MkdirAll(p.places().SSH, 0o755))
	for i := 0; i+1 < len(beside); i += 2 {
		err = errors.Join(err, os.WriteFile(filepath.Join(dir, beside[i]), []byte(beside[i+1]), 0o600))
	}
	if err != nil {
		p.Fatal(err)
	}
	state, err := declared.ReadFile(path)
	if err == nil {
		s := p.station()
		_, err = apply.Apply(p.Context(), s.Begin("Apply a state.", false), s, state, apply.Options{Places: p.places()})
	}
	if err != nil {
		p.Fatal(err)
	}
}

// putMachine writes a file beside those of ours for everybody.
func (p place) putMachine(text, ending string) {
	p.Helper()
	if err := os.WriteFile(p.machine+ending, []byte(text), 0o644); err != nil {
		p.Fatal(err)
	}
}

// stored is a line with some key of a host.
func (p place) stored(name string) string {
	p.Helper()
	made, err := sshkey.Make(sshkey.Spec{})
	if err != nil {
		p.Fatal(err)
	}
	return name + " " + sshkey.Line(made.Key, "") + "\n"
}

// certificate puts one beside a key, from a day until another, counted from today.
func (p place) certificate(from, until int) {
	p.Helper()
	made := p.key(".ssh/tide", locked)
	authority, err := sshkey.Make(sshkey.Spec{})
	if err != nil {
		p.Fatal(err)
	}
	signer, err := ssh.ParsePrivateKey(authority.Private)
	if err != nil {
		p.Fatal(err)
	}
	at := func(days int) uint64 { return uint64(today.AddDate(0, 0, days).Unix()) }
	c := &ssh.Certificate{Key: made.Key, CertType: ssh.UserCert, ValidPrincipals: []string{"ines"},
		ValidAfter:  at(from),
		ValidBefore: at(until)}
	if err := c.SignCert(rand.Reader, signer); err != nil {
		p.Fatal(err)
	}
	p.put(sshkey.Line(c, "")+"\n", ".ssh/tide-cert.pub")
}

// token puts one into the chest, in the place of the one before.
func (p place) token(e chest.Entry) {
	p.Helper()
	p.drop(".local/share/unicrux/chest")
	c := chest.Of(p.station()).Easy()
	_, err := c.Lock(p.Context(), secret.Text{}, secret.New([]byte("seven tides")))
	e.Name, e.Kind, e.Protocol, e.At, e.User = "forge", chest.Sealed, "https", "forge.tidewater.example", "ines"
	if err == nil {
		_, err = c.Put(e, chest.Secret{Token: secret.New([]byte("needle-token"))})
	}
	if err != nil {
		p.Fatal(err)
	}
}
