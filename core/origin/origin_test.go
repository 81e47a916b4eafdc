package origin

import (
	"errors"
	"fmt"
	"net/url"
	"testing"

	"anchorage.example/unicrux/core/secret"
)

func TestOf(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		"https://forge.tidewater.example/a/b":   "https://forge.tidewater.example:443",
		"https://Forge.tidewater.example:443":   "https://forge.tidewater.example:443",
		"https://forge.tidewater.example:8443/": "https://forge.tidewater.example:8443",
		"http://forge.tidewater.example":        "http://forge.tidewater.example:80",
		"https://[::1]:9/":                      "https://::1:9",
		"https://\u212aelp.example/":            "https://\u212aelp.example:443",
	} {
		u, err := url.Parse(text)
		if err != nil {
			t.Fatal(err)
		}
		if got := Of(u); got != want {
			t.Errorf("%s: %s, want %s", text, got, want)
		}
	}
}

// TestBound sends a secret to its own place, and to none that differs in anything.
func TestBound(t *testing.T) {
	t.Parallel()
	place := Place{"https://forge.tidewater.example:443", "127.0.0.1", Authority("PEM")}
	bound := Bind(secret.New([]byte("tide-1")), place)
	if text, err := bound.To(place); err != nil || string(text.Reveal()) != "tide-1" {
		t.Errorf("its own: %v", err)
	}
	for name, other := range map[string]Place{
		"another origin":    {"https://forge.tidewater.example:8443", place.Address, place.Authority},
		"another host":      {"https://saltmarsh.example:443", place.Address, place.Authority},
		"another address":   {place.Origin, "127.0.0.2", place.Authority},
		"no address":        {place.Origin, "", place.Authority},
		"another authority": {place.Origin, place.Address, Authority("OTHER")},
		"the system's":      {place.Origin, place.Address, ""},
	} {
		if text, err := bound.To(other); !errors.Is(err, ErrElsewhere) || !text.Empty() {
			t.Errorf("%s: %v", name, err)
		}
	}
	here, there, plain := &url.URL{Scheme: "https", Host: "forge.tidewater.example"},
		&url.URL{Scheme: "https", Host: "forge.tidewater.example:1"},
		&url.URL{Scheme: "http", Host: "forge.tidewater.example"}
	if _, err := bound.ToOrigin(here); err != nil {
		t.Errorf("its own origin: %v", err)
	}
	for _, u := range []*url.URL{there, plain} {
		if text, err := bound.ToOrigin(u); !errors.Is(err, ErrElsewhere) || !text.Empty() {
			t.Errorf("%s: %v", u, err)
		}
	}
	unprotected := Bind(secret.New([]byte("x")), Place{Origin: Of(plain)})
	if _, err := unprotected.ToOrigin(plain); !errors.Is(err, ErrUnprotected) {
		t.Errorf("plain http: %v", err)
	}
	if text, err := (Bound{}).To(place); err != nil || !text.Empty() {
		t.Errorf("nothing: %v", err)
	}
	if shown := fmt.Sprintf("%v %+v %#v", bound, bound, bound); shown == "" || containsSecret(shown) {
		t.Errorf("it shows itself: %s", shown)
	}
}

func containsSecret(text string) bool {
	for i := range len(text) - 5 {
		if text[i:i+6] == "tide-1" {
			return true
		}
	}
	return false
}
