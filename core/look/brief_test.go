package look_test

import (
	"crypto/ed25519"
	"crypto/rand"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/chest"
	"anchorage.example/unicrux/core/look"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/fixture"
)

// certify puts a certificate beside a key.
func certify(t *testing.T, s *fixture.Site, name string, from, until time.Time) {
	t.Helper()
	pair := s.Key(name, "")
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	signer, err := ssh.NewSignerFromKey(private)
	if err != nil {
		t.Fatal(err)
	}
	certificate := &ssh.Certificate{Key: pair.Public, CertType: ssh.UserCert, ValidPrincipals: []string{"git"},
		ValidAfter: uint64(from.Unix()), ValidBefore: uint64(until.Unix())}
	if err := certificate.SignCert(rand.Reader, signer); err != nil {
		t.Fatal(err)
	}
	s.Write(string(ssh.MarshalAuthorizedKey(certificate)), ".ssh", name+"-cert.pub")
}

// TestBrief: nothing where nothing matters; then what does not wait longer than two weeks, the most urgent first.
func TestBrief(t *testing.T) {
	t.Parallel()
	s := fixture.At(t, "forge")
	topics := func() (list []string) {
		t.Helper()
		matters, err := look.Brief(s.Station)
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range matters {
			list = append(list, string(m.Topic)+" "+m.Name+filepath.Base(m.Path))
		}
		return list
	}
	c, now := s.OpenChest(), s.Station.Now()
	keep := func(name string, until time.Time) {
		t.Helper()
		e := chest.Entry{Name: name, Protocol: "https", At: "forge.tidewater.example", User: name, Made: now,
			Until: until}
		if _, err := c.Put(e, chest.Secret{Token: secret.New([]byte("tide-" + name))}); err != nil {
			t.Fatal(err)
		}
	}
	keep("later", now.AddDate(0, 0, 15))
	keep("without", time.Time{})
	certify(t, s, "daily", now.Add(-time.Hour), now.Add(7*time.Hour))
	certify(t, s, "yearly", now.AddDate(0, -6, 0), now.AddDate(0, 6, 0))
	if got := topics(); got != nil {
		t.Errorf("nothing matters: %q", got)
	}
	keep("soon", now.AddDate(0, 0, 13))
	keep("over", now.AddDate(0, 0, -1))
	certify(t, s, "ending", now.AddDate(0, -11, 0), now.AddDate(0, 0, 9))
	certify(t, s, "ended", now.Add(-9*time.Hour), now.Add(-time.Hour))
	s.Write("\thelper = /gone/unicrux for-git credential\n", ".config", "unicrux", "git.config")
	if err := os.Chmod(s.Key("open", "").Path, 0o644); err != nil {
		t.Fatal(err)
	}
	want := []string{"exposed-key open", "moved-program unicrux", "token over.", "token soon.", "certificate ended",
		"certificate ending"}
	if got := topics(); !slices.Equal(got, want) {
		t.Errorf("got  %q\nwant %q", got, want)
	}
}
