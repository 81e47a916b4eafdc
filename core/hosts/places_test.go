package hosts

import (
	"errors"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/pelletier/go-toml/v2"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/origin"
	"anchorage.example/unicrux/core/secret"
)

// said is a description by the parts that decide where a secret goes.
type said struct{ name, host, web, webAddress, api, apiAddress, issuer string }

func (s said) text(t testing.TB) []byte {
	t.Helper()
	all := map[string]any{"unicrux": 1, "name": s.name, "ssh": map[string]any{"host": s.host, "user": "git"},
		"https":     map[string]any{"url": s.web, "address": s.webAddress},
		"interface": map[string]any{"url": s.api, "address": s.apiAddress}}
	if s.issuer != "" {
		all["oauth"] = map[string]any{"issuer": s.issuer, "client": "unicrux"}
	}
	text, err := toml.Marshal(all)
	if err != nil {
		t.Skip(err)
	}
	return text
}

func (s said) source(t testing.TB) (Source, bool) {
	t.Helper()
	text := s.text(t)
	d, err := describe.Parse(text)
	return Source{Description: d, Text: text}, err == nil
}

var forge = said{"forge", "forge.tidewater.example", "https://forge.tidewater.example/", "127.0.0.1",
	"https://api.tidewater.example/", "127.0.0.1", "https://id.tidewater.example/"}

// TestConflicts adds a second description beside forge's.
func TestConflicts(t *testing.T) {
	t.Parallel()
	for _, row := range []struct {
		name   string
		second said
		taken  string // empty where both can be
	}{
		{"another host", said{"marsh", "git.saltmarsh.example", "https://git.saltmarsh.example/", "",
			"https://git.saltmarsh.example/api/", "", ""}, ""},
		{"the same name in clone URLs", said{"x", "FORGE.tidewater.example", "https://x.example/", "", "", "", ""},
			"FORGE.tidewater.example"},
		{"another's interface", said{"x", "x.example", "https://x.example/", "127.0.0.9",
			"https://api.tidewater.example/", "127.0.0.9", ""}, "https://api.tidewater.example:443"},
		{"another's interface, the port written out",
			said{"x", "x.example", "", "", "https://api.tidewater.example:443/x/", "", ""},
			"https://api.tidewater.example:443"},
		{"another's clone URLs as its interface", said{"x", "x.example", "", "", "https://forge.tidewater.example/x/",
			"", ""}, "https://forge.tidewater.example:443"},
		{"another's interface to sign in at", said{"x", "x.example", "", "", "", "", "https://api.tidewater.example/"},
			"https://api.tidewater.example:443"},
		{"the same server to sign in, elsewhere", said{"x", "x.example", "", "", "https://x.example/api/",
			"127.0.0.9", "https://id.tidewater.example/"}, "https://id.tidewater.example:443"},
		{"the same server to sign in", said{"x", "x.example", "", "", "https://x.example/api/",
			"127.0.0.1", "https://id.tidewater.example/"}, ""},
		{"another port", said{"x", "x.example", "https://forge.tidewater.example:8443/", "", "", "", ""}, ""},
	} {
		station := here(t)
		for i, s := range []said{forge, row.second} {
			source, ok := s.source(t)
			if !ok {
				t.Fatalf("%s: no description", row.name)
			}
			_, err := Replaces(station, source)
			addErr := Add(station.Begin("Test.", false), station, source)
			var taken, also *ConflictError
			if want := i == 1 && row.taken != ""; errors.As(err, &taken) != want || errors.As(addErr, &also) != want {
				t.Errorf("%s: %v, %v", row.name, err, addErr)
			} else if want && (taken.Origin != row.taken || taken.Name != "forge") {
				t.Errorf("%s: %v", row.name, taken)
			}
		}
	}
}

// TestManagedConflicts: beside a description that the administrator keeps, a person's own of the same host comes first,
// and one of another host gets none of its places, whichever was there before.
func TestManagedConflicts(t *testing.T) {
	t.Parallel()
	same := said{"mine", "forge.tidewater.example", "https://forge.tidewater.example/", "", "https://mine.example/",
		"", ""}
	claims := said{"x", "x.example", "https://x.example/", "", "https://api.tidewater.example/", "", ""}
	for _, row := range []struct {
		name     string
		own      said
		ownFirst bool
		want     []string // the hosts that count
		refused  bool     // the person's own cannot be added
		problem  bool
	}{
		{"the same host", same, false, []string{"mine"}, false, false},
		{"the same host, before", same, true, []string{"mine"}, false, false},
		{"a place of its", claims, false, []string{"forge"}, true, false},
		{"a place of its, before", claims, true, []string{"x"}, false, true},
	} {
		station := here(t)
		station.Machine = filepath.Join(station.Home, "machine")
		manage := func() {
			folder := filepath.Join(station.Machine, "hosts")
			if err := errors.Join(os.MkdirAll(folder, 0o700),
				os.WriteFile(filepath.Join(folder, "forge.toml"), forge.text(t), 0o600)); err != nil {
				t.Fatal(err)
			}
		}
		if !row.ownFirst {
			manage()
		}
		source, ok := row.own.source(t)
		if !ok {
			t.Fatalf("%s: no description", row.name)
		}
		if err := Add(station.Begin("Test.", false), station, source); (err != nil) != row.refused {
			t.Errorf("%s: added: %v", row.name, err)
		}
		manage()
		registry, err := Open(station)
		if err != nil {
			t.Fatal(err)
		}
		var names []string
		for _, d := range registry.Hosts {
			names = append(names, d.Name)
		}
		if !slices.Equal(names, row.want) || (len(registry.Problems) > 0) != row.problem {
			t.Errorf("%s: %q, %v", row.name, names, registry.Problems)
		}
	}
}

// FuzzTwoDescriptions keeps a token for one host, adds a second description that says anything, and
// replaces the first one by it as well: the token goes to the places that the first one named when it
// was kept, and to no other.
func FuzzTwoDescriptions(f *testing.F) {
	for _, s := range []said{forge, {"x", "x.example", "https://forge.tidewater.example/",
		"127.0.0.9", "https://api.tidewater.example/", "127.0.0.9", ""},
		{"forge", "forge.tidewater.example", "https://forge.tidewater.example/", "127.0.0.9", "https://evil.example/",
			"", "https://evil.example/"},
		{"x", "Forge.tidewater.example", "https://forge.tidewater.example:443/", "",
			"https://API.tidewater.example:443/", "127.0.0.9", "https://id.tidewater.example:443/"}} {
		f.Add(s.name, s.host, s.web, s.webAddress, s.api, s.apiAddress, s.issuer)
	}
	f.Fuzz(func(t *testing.T, name, host, web, webAddress, api, apiAddress, issuer string) {
		station := here(t)
		first, _ := forge.source(t)
		kept := first.Description.Places()
		token := first.Description.Bind(secret.New([]byte("tide-1")))
		second, ok := said{name, host, web, webAddress, api, apiAddress, issuer}.source(t)
		if !ok {
			return
		}
		batch := station.Begin("Test.", false)
		if err := Add(batch, station, first); err != nil {
			t.Fatal(err)
		}
		err := Add(batch, station, second)
		var taken *ConflictError
		if err != nil && !errors.As(err, &taken) {
			t.Fatal(err)
		}
		registry, err := Open(station)
		if err != nil {
			t.Fatal(err)
		}
		may := map[origin.Place]bool{}
		for _, place := range kept {
			may[place] = true
		}
		for _, d := range registry.Hosts {
			for _, place := range append(d.Places(), registry.WebPlace(d.HTTPSAt()),
				registry.WebPlace("forge.tidewater.example")) {
				if text, err := token.To(place); err == nil && !text.Empty() && !may[place] {
					t.Fatalf("the token goes to %s", place)
				}
			}
		}
		if len(registry.Hosts) == 2 {
			a, b := registry.Hosts[0], registry.Hosts[1]
			for _, place := range []origin.Place{a.WebPlace(), a.APIPlace()} {
				for _, other := range b.Destinations() {
					if place.Origin != "" && place.Origin == other.Origin {
						t.Fatalf("both name %s", place.Origin)
					}
				}
			}
		}
	})
}
