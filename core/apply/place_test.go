package apply

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"anchorage.example/unicrux/core/declared"
	"anchorage.example/unicrux/core/person"
	"anchorage.example/unicrux/core/workstation"
)

// The keys of the examples.
const (
	oneKey   = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIDBj26xSRu9tUGOEIVb5tQ7cQxqZbs3puvBU1657z+91"
	otherKey = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIPcKSlRTP+aC34B7N6CrlC3Aa3JEPGLQP4eHzMHj+bSe"
	oldKey   = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIPF57nONlqh/1dfGBaLetrzYu2wLYgxzYKMGsZzwR535"
)

// forge is a description of a host.
const forge = `unicrux = 1
name = "forge"
[ssh]
host = "forge.tidewater.example"
user = "git"
port = 2222
host-keys = ["` + otherKey + `"]
[https]
url = "https://forge.tidewater.example/"
address = "127.0.0.1"
`

// full is a state with something of each part.
const full = `unicrux = 1
fleet = "tidewater"
policy = "policy.toml"
[[host]]
description = "forge.toml"
settings = { via = "gate.tidewater.example", keep-alive = 30 }
[[trust]]
authority = "` + oneKey + `"
hosts = ["*.tidewater.example"]
[[distrust]]
key = "` + oldKey + `"
why = "rotated"
[git]
in-place = true
`

// A machine is one with nothing of ours on it.
type machine struct {
	*testing.T

	dir     string // all of it
	station *workstation.Station
	places  Places
	only    []Part
	program string
}

func newMachine(t *testing.T) *machine {
	t.Helper()
	dir, err := filepath.EvalSymlinks(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	p := person.Of([]string{"HOME=" + filepath.Join(dir, "root"), "PATH=" + os.Getenv("PATH"),
		"GIT_CONFIG_NOSYSTEM=1"}, filepath.Join(dir, "root"))
	p.Machine, p.User = filepath.Join(dir, "etc", "unicrux"), "root"
	m := &machine{T: t, dir: dir, station: &workstation.Station{Person: p, Computer: "driftwood", Folder: dir,
		Now: time.Now}, places: Places{Machine: p.Machine, SSH: filepath.Join(dir, "etc", "ssh"),
		Git: filepath.Join(dir, "etc", "gitconfig")}, program: "/usr/bin/env"}
	m.put("Include "+m.places.SSH+"/ssh_config.d/*.conf\nHost *\n\tHashKnownHosts yes\n", "etc/ssh/ssh_config")
	m.put("[user]\n\tname = Nobody\n", "etc/gitconfig")
	m.put("# the machine's own\ngate.tidewater.example "+oneKey+"\n", "etc/ssh/ssh_known_hosts")
	m.put(forge, "state/forge.toml")
	m.put("unicrux = 1\n[rules]\nkey-no-passphrase = \"must\"\n", "state/policy.toml")
	return m
}

func (m *machine) put(text, name string) {
	m.Helper()
	path := filepath.Join(m.dir, name)
	if err := errors.Join(os.MkdirAll(filepath.Dir(path), 0o755), os.WriteFile(path, []byte(text), 0o644)); err != nil {
		m.Fatal(err)
	}
}

func (m *machine) read(name string) string {
	m.Helper()
	text, err := os.ReadFile(filepath.Join(m.dir, name))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		m.Fatal(err)
	}
	return string(text)
}

// try applies a state, or says what a dry run would do.
func (m *machine) try(state string, dry bool) (Result, *workstation.Batch, error) {
	m.Helper()
	m.put(state, "state/state.toml")
	s, err := declared.ReadFile(filepath.Join(m.dir, "state", "state.toml"))
	if err != nil {
		m.Fatal(err)
	}
	batch := m.station.Begin("Apply a state.", dry)
	r, err := Apply(context.Background(), batch, m.station, s, Options{Places: m.places,
		Program: m.program, Only: m.only})
	return r, batch, err
}

// apply is [machine.try] of what must work.
func (m *machine) apply(state string) Result {
	m.Helper()
	r, _, err := m.try(state, false)
	if err != nil {
		m.Fatal(err)
	}
	return r
}

// etc is all that is below etc, by name: content, and when it was changed.
func (m *machine) etc() map[string]string {
	m.Helper()
	all := map[string]string{}
	err := filepath.WalkDir(filepath.Join(m.dir, "etc"), func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		text, err := os.ReadFile(path)
		all[strings.TrimPrefix(path, m.dir)] = string(text)
		return err
	})
	if err != nil {
		m.Fatal(err)
	}
	return all
}

func (m *machine) statuses(r Result) map[Status]int {
	counts := map[Status]int{}
	for _, t := range r.Things {
		counts[t.Status]++
	}
	return counts
}
