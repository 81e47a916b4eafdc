package hosts

import (
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/person"
	"anchorage.example/unicrux/core/workstation"
)

// TestProxies leads to an interface as git is led to the host.
func TestProxies(t *testing.T) {
	t.Parallel()
	for _, row := range []struct{ name, config, environ, address, want string }{
		{"none", "", "", "", ""},
		{"the environment", "", "HTTPS_PROXY=http://env.example:3128", "", "http://env.example:3128"},
		{"not for this host", "", "HTTPS_PROXY=http://env.example:3128 NO_PROXY=tidewater.example", "", ""},
		{"git's settings", "[http]\n\tproxy = http://all.example:1\n[http \"https://forge.tidewater.example/\"]\n\tproxy = socks5://near.example:2\n", "HTTPS_PROXY=http://env.example:3128", "", "socks5://near.example:2"},
		{"git's settings for others",
			"[http \"https://other.example/\"]\n\tproxy = http://other.example:1\n", "", "", ""},
		{"git told not to", "[http]\n\tproxy =\n", "HTTPS_PROXY=http://env.example:3128", "", ""},
		{"this very computer", "", "HTTPS_PROXY=http://env.example:3128", "127.0.0.1", ""},
	} {
		home := t.TempDir()
		if err := os.WriteFile(filepath.Join(home, ".gitconfig"), []byte(row.config), 0o600); err != nil {
			t.Fatal(err)
		}
		station := &workstation.Station{Person: person.Person{Home: home,
			Environ: append([]string{"HOME=" + home, "PATH=" + os.Getenv("PATH"), "GIT_CONFIG_NOSYSTEM=1"},
				strings.Fields(row.environ)...)}, Folder: home}
		d := &describe.Description{Interface: describe.Interface{URL: "https://forge.tidewater.example/api/",
			Address: row.address}}
		choose, got := proxyFor(station, d), ""
		if choose != nil {
			r, err := http.NewRequest(http.MethodGet, d.Interface.URL, nil)
			if err != nil {
				t.Fatal(err)
			}
			at, err := choose(r)
			if err != nil {
				t.Fatal(err)
			}
			if at != nil {
				got = at.String()
			}
		}
		if got != row.want {
			t.Errorf("%s: %q, want %q", row.name, got, row.want)
		}
	}
}
