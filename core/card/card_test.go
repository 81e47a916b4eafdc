package card_test

import (
	"slices"
	"strings"
	"testing"
	"time"

	"anchorage.example/unicrux/core/card"
	"anchorage.example/unicrux/core/chest"
	"anchorage.example/unicrux/core/keys"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/core/trust"
	"anchorage.example/unicrux/fixture"
)

func field(side card.Side, name string) string {
	for _, f := range side.Fields {
		if f.Name == name {
			return f.Value + f.Secret
		}
	}
	return ""
}

// TestCard says what is there, and how to get what is missing; a secret by its name alone.
func TestCard(t *testing.T) {
	t.Parallel()
	s := fixture.At(t, "forge")
	filled, err := card.For(t.Context(), s.Site, s.Description, "push")
	if err != nil || len(filled.Sides) != 2 {
		t.Fatalf("%+v, %v", filled, err)
	}
	for i, want := range []string{"unicrux ready forge", "unicrux token new forge --for push"} {
		if side := filled.Sides[i]; side.Ready || strings.Join(side.Missing, " ") != want {
			t.Errorf("nothing is there yet: %+v", side)
		}
	}
	if _, err := keys.Make(t.Context(), s.Site, s.Batch(), keys.NewKey{Host: s.Description}); err != nil {
		t.Fatal(err)
	}
	if _, err := trust.Host(t.Context(), s.Site, s.Batch(), "forge"); err != nil {
		t.Fatal(err)
	}
	c := s.OpenChest()
	for _, e := range []chest.Entry{{Name: "a-ended", Purposes: []string{"push"}, Until: time.Now().Add(-time.Hour)},
		{Name: "reads", Purposes: []string{"clone"}},
		{Name: "writes", Purposes: []string{"push"}}} {
		e.Protocol, e.At, e.User, e.Host, e.Places = "https", s.Description.HTTPSAt(), "ines.marlow", "forge",
			s.Description.Places()
		if _, err := c.Put(e, chest.Secret{Token: secret.New([]byte("hidden-" + e.Name))}); err != nil {
			t.Fatal(err)
		}
	}
	filled, err = card.For(t.Context(), s.Site, s.Description, "push")
	if err != nil {
		t.Fatal(err)
	}
	ssh, https := filled.Sides[0], filled.Sides[1]
	if !ssh.Ready || field(ssh, "user") != "git" || !strings.HasSuffix(field(ssh, "key"), "forge_ed25519") ||
		field(ssh, "host-key") != s.Host.HostKeyPrint() || field(ssh, "passphrase") != "none" {
		t.Errorf("%+v", ssh)
	}
	if !https.Ready || field(https, "user") != "ines.marlow" || field(https, "password") != "writes" ||
		field(https, "authority") == "" {
		t.Errorf("%+v", https)
	}
	for _, f := range https.Fields {
		if !slices.Contains(card.FieldNames(), f.Name) {
			t.Errorf("nobody is told of the field %s", f.Name)
		}
		if strings.Contains(f.Value+f.Note, "hidden-") {
			t.Errorf("a secret: %+v", f)
		}
	}
	web := *s.Description
	web.SSH.Host = ""
	if filled, err := card.For(t.Context(), s.Site, &web, "clone"); err != nil || len(filled.Sides) != 1 ||
		filled.Sides[0].Transport != "https" {
		t.Errorf("by HTTPS alone: %+v, %v", filled, err)
	}
}
