package hosts

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/pelletier/go-toml/v2"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/person"
	"anchorage.example/unicrux/core/workstation"
)

// here is a station in a home of its own.
func here(t testing.TB) *workstation.Station {
	t.Helper()
	home := t.TempDir()
	environ := []string{"PATH=" + os.Getenv("PATH"), "HOME=" + home, "GIT_CONFIG_NOSYSTEM=1",
		"UNICRUX_MACHINE=" + filepath.Join(home, ".machine"),
		"XDG_CONFIG_HOME=" + filepath.Join(home, ".config")}
	return &workstation.Station{Person: person.Of(environ, home), Folder: home, Now: time.Now}
}

// asSSH is what the real client resolves for a host name from our file alone.
func asSSH(t testing.TB, file, host string) map[string]string {
	t.Helper()
	out, err := exec.Command("ssh", "-G", "-F", file, host).CombinedOutput()
	if err != nil {
		t.Fatalf("ssh -G %s: %v: %s", host, err, out)
	}
	settings := map[string]string{}
	for line := range strings.Lines(string(out)) {
		name, value, _ := strings.Cut(strings.TrimSpace(line), " ")
		settings[name] = value
	}
	return settings
}

// FuzzDescriptionToFiles lets a description say anything. If it is accepted, the files that are
// written have exactly the blocks and keywords that we meant, as the real clients read them: for
// its own host what it says and no command, for every other host what there was before.
func FuzzDescriptionToFiles(f *testing.F) {
	type seed = []string // host, user, address, title, web URL, web address, web user
	for _, s := range []seed{
		{"forge.tidewater.example", "git", "127.0.0.1", "The cooperative", "https://forge.tidewater.example/",
			"127.0.0.1", "{account}"},
		{"forge.tidewater.example", "git", "::1%h\nHost\r*\nProxyCommand\rtouch /tmp/x\n", "", "", "", ""},
		{"forge.tidewater.example", "git", "::1%h", "", "", "fe80::1%\r", ""},
		{"a\rHost\r*", "git", "", "", "https://a\nb/", "", "x\ny"},
		{"forge.tidewater.example", "git\fProxyCommand true", "", "\x1b[2J", "https://[::1%25a]/", "", "\u202e"},
		{"*", "-oProxyCommand=x", "::1", "", "https://forge.tidewater.example:8443/", "::1", "t"},
	} {
		f.Add(s[0], s[1], s[2], s[3], s[4], s[5], s[6])
	}
	f.Fuzz(func(t *testing.T, host, user, address, title, web, webAddress, webUser string) {
		text, err := toml.Marshal(map[string]any{"unicrux": 1, "name": "forge", "title": title,
			"ssh":   map[string]any{"host": host, "user": user, "address": address, "port": 2222},
			"https": map[string]any{"url": web, "address": webAddress, "username": webUser}})
		if err != nil {
			return
		}
		d, err := describe.Parse(text)
		if err != nil {
			return
		}
		station := here(t)
		batch := station.Begin("Test.", false)
		if err := Add(batch, station, Source{Description: d, Text: text}); err != nil {
			t.Fatal(err)
		}
		if err := SettleHTTPS(t.Context(), batch, station, d, "/usr/bin/unicrux"); err != nil {
			t.Fatal(err)
		}
		onlyAbout(t, station, d)
		settledForGit(t, station, d)
	})
}

// onlyAbout holds what ssh resolves against what the description says.
func onlyAbout(t *testing.T, station *workstation.Station, d *describe.Description) {
	t.Helper()
	nothing := filepath.Join(t.TempDir(), "empty")
	if err := os.WriteFile(nothing, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	for _, other := range []string{"elsewhere.example", "x"} {
		if other == d.SSH.Host {
			continue
		}
		got, want := asSSH(t, OurFile(station), other), asSSH(t, nothing, other)
		for name, value := range got {
			if want[name] != value {
				t.Errorf("%s: %s is %q for another host, which says %q without us", d.SSH.Host, name, value, want[name])
			}
		}
	}
	got := asSSH(t, OurFile(station), d.SSH.Host)
	wanted := d.SSH.Address
	if wanted == "" {
		wanted = strings.ToLower(d.SSH.Host)
	}
	if got["user"] != d.SSH.User || got["port"] != "2222" || !strings.EqualFold(got["hostname"], wanted) ||
		got["proxycommand"] != "" || got["localcommand"] != "" {
		t.Errorf("%q as %q at %q: ssh reads %v", d.SSH.Host, d.SSH.User, d.SSH.Address, got)
	}
}

// settledForGit holds what git reads against what the description says.
func settledForGit(t *testing.T, station *workstation.Station, d *describe.Description) {
	t.Helper()
	entries, err := gitlink.Entries(OurGitFile(station))
	if err != nil {
		t.Fatal(err)
	}
	at := "https://" + d.HTTPSAt()
	may := []string{"credential." + at + ".helper", "http." + at + "/.curloptresolve"}
	for _, entry := range entries {
		if !slices.Contains(may, entry.Key) || strings.ContainsAny(entry.Value, "\n\r") {
			t.Errorf("git reads %q = %q", entry.Key, entry.Value)
		}
	}
}
