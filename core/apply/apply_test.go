package apply

import (
	"errors"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"anchorage.example/unicrux/core/strict"
	"anchorage.example/unicrux/core/workstation"
)

// TestTwice: a dry run says what is then done and changes nothing; the second run changes nothing, not even a time; and
// undo gives everything back byte for byte.
func TestTwice(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	before := m.etc()
	dry, _, err := m.try(full, true)
	if err != nil || !dry.Moves() || !maps.Equal(m.etc(), before) {
		t.Fatalf("a dry run: %v %+v", err, dry)
	}
	r, batch, err := m.try(full, false)
	if err != nil || m.statuses(r)[Changed] != len(r.Things) {
		t.Fatalf("%v %+v", err, r.Things)
	}
	if len(dry.Diffs) != len(r.Diffs) {
		t.Errorf("foretold %d files, changed %d", len(dry.Diffs), len(r.Diffs))
	}
	for i, d := range r.Diffs {
		if d.Path != dry.Diffs[i].Path || string(d.After) != string(dry.Diffs[i].After) ||
			string(d.After) != m.read(strings.TrimPrefix(d.Path, m.dir)) {
			t.Errorf("%s is not as foretold", d.Path)
		}
	}
	times := m.times()
	again, second, err := m.try(full, false)
	if err != nil || again.Moves() || second.Change().ID != 0 || !maps.Equal(times, m.times()) {
		t.Errorf("the second run: %v %+v", err, again)
	}
	if dry, _, err := m.try(full, true); err != nil || dry.Moves() {
		t.Errorf("a dry run afterwards: %v %+v", err, dry)
	}
	if _, _, err := m.station.Undo(batch.Change().ID, false, nil); err != nil || !maps.Equal(m.etc(), before) {
		t.Errorf("undone: %v %v", err, m.etc())
	}
}

// times are when each file was changed, and which one it is.
func (m *machine) times() map[string]string {
	all := map[string]string{}
	for name := range m.etc() {
		info, err := os.Stat(filepath.Join(m.dir, name))
		if err != nil {
			m.Fatal(err)
		}
		all[name] = info.ModTime().String()
	}
	return all
}

// TestContents: the files say what the state declares, for everybody to read, and lines of others stay.
func TestContents(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	m.apply(full)
	for name, lines := range map[string][]string{
		"etc/ssh/ssh_known_hosts": {"# the machine's own\ngate.tidewater.example " + oneKey + "\n",
			"[forge.tidewater.example]:2222 " + otherKey + "\n", "@cert-authority *.tidewater.example " + oneKey,
			"# distrusted: rotated\n@revoked * " + oldKey + "\n"},
		"etc/ssh/ssh_config.d/50-unicrux.conf": {"Host forge.tidewater.example\n", "Port 2222\n", "User git\n",
			"ProxyJump gate.tidewater.example\n", "ServerAliveInterval 30\n"},
		"etc/unicrux/git.config": {"'/usr/bin/env' for-git ssh", "variant = ssh",
			"curloptResolve = forge.tidewater.example:443:127.0.0.1"},
		"etc/gitconfig":                {"[user]\n\tname = Nobody\n", "path = " + m.places.Machine + "/git.config"},
		"etc/unicrux/hosts/forge.toml": {forge},
		"etc/unicrux/policy.toml":      {"key-no-passphrase"},
		"etc/unicrux/state.toml":       {full},
	} {
		text := m.read(name)
		for _, line := range lines {
			if !strings.Contains(text, line) {
				t.Errorf("%s lacks %q:\n%s", name, line, text)
			}
		}
		for path := filepath.Join(m.dir, name); len(path) > len(m.dir)+len("/etc"); path = filepath.Dir(path) {
			if info, err := os.Stat(path); err != nil || info.Mode().Perm()&0o044 != 0o044 {
				t.Errorf("not everybody can read %s: %v %v", path, info.Mode(), err)
			}
		}
	}
}

// TestOddReason: a reason that reads as one of our marks is none.
func TestOddReason(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	for _, why := range []string{strings.TrimPrefix(blockEnd, "# "), strings.TrimPrefix(blockBegin, "# ")} {
		state := strings.Replace(full, `"rotated"`, strconv.Quote(why), 1)
		m.apply(state)
		if r := m.apply(state); r.Moves() {
			t.Errorf("%q: the second run changes %+v", why, r.Things)
		}
	}
}

// TestLess: what a state no longer names is removed, unless somebody edited it; what it says is to be absent goes in
// any case. A part alone leaves the others.
func TestLess(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	before := m.etc()
	m.apply(full)
	m.put(m.read("etc/unicrux/policy.toml")+"# mine\n", "etc/unicrux/policy.toml")
	empty := "unicrux = 1\n"
	m.only = []Part{Trust}
	if r := m.apply(empty); m.statuses(r)[Changed] != 2 || strings.Contains(m.read("etc/ssh/ssh_known_hosts"),
		oldKey) ||
		m.read("etc/unicrux/hosts/forge.toml") == "" {
		t.Fatalf("one part: %+v", r)
	}
	m.only = nil
	r := m.apply(empty)
	if m.statuses(r)[Left] != 1 || m.read("etc/unicrux/policy.toml") == "" {
		t.Errorf("it was edited: %+v", r)
	}
	after := m.etc()
	for name := range after {
		if strings.HasPrefix(name, "/etc/unicrux/") {
			delete(after, name)
		}
	}
	if !maps.Equal(after, before) {
		t.Errorf("left: %v", after)
	}
	if names := slices.Sorted(maps.Keys(m.etc())); slices.Contains(names, "/etc/unicrux/hosts/forge.toml") ||
		slices.Contains(names, "/etc/unicrux/git.config") {
		t.Errorf("left: %v", names)
	}
	m.put(forge, "etc/unicrux/hosts/forge.toml")
	m.apply(empty + "[absent]\nhosts = [\"forge\"]\n")
	if m.read("etc/unicrux/hosts/forge.toml") != "" {
		t.Error("it is to be absent")
	}
}

// TestRefused: what cannot be applied as a whole is not begun.
func TestRefused(t *testing.T) {
	t.Parallel()
	for name, row := range map[string]struct {
		state, says string
		before      func(m *machine)
	}{
		"a policy with a slip": {full, "line 2", func(m *machine) {
			m.put("unicrux = 1\nruls = 1\n",
				"state/policy.toml")
		}},
		"a setting of a person's": {strings.Replace(full, "keep-alive = 30", `key = "id_ed25519"`, 1),
			"for everybody", nil},
		"a setting that nobody knows": {strings.Replace(full, "keep-alive", "keep-alife", 1), "keep-alive", nil},
		"a setting that cannot be":    {strings.Replace(full, "30", `"soon"`, 1), "number of seconds", nil},
		"two ways": {strings.Replace(full, "keep-alive = 30", `proxy = "http://gate.tidewater.example:3128"`, 1),
			"not through both", nil},
		"no certificates": {strings.Replace(full, "keep-alive = 30", `authority = "forge.toml"`, 1), "certificates",
			nil},
		"described elsewhere": {full, "describes the same host", func(m *machine) {
			m.put(strings.Replace(forge, `"forge"`, `"mine"`, 1), "etc/unicrux/hosts/mine.toml")
		}},
		"one mark without the other": {full, "marks", func(m *machine) {
			m.put(blockBegin+"\n",
				"etc/ssh/ssh_known_hosts")
		}},
		"a program that others can replace": {full, "others than root", func(m *machine) {
			m.put("", "unicrux")
			m.program = filepath.Join(m.dir, "unicrux")
			if err := os.Chmod(m.program, 0o777); err != nil {
				m.Fatal(err)
			}
		}},
		"marks of a newer one": {full, "newer", func(m *machine) {
			m.put(`{"unicrux": 2}`, "etc/unicrux/applied.json")
		}},
		"damaged marks": {full, "damaged", func(m *machine) { m.put(`{`, "etc/unicrux/applied.json") }},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			m := newMachine(t)
			if row.before != nil {
				row.before(m)
			}
			before := m.etc()
			_, _, err := m.try(row.state, false)
			if err == nil || !strings.Contains(err.Error(), row.says) || !maps.Equal(before, m.etc()) {
				t.Errorf("%v", err)
			}
			var wrong *strict.Error
			if errors.As(err, &wrong) && wrong.Line == 0 {
				t.Errorf("without a line: %v", err)
			}
		})
	}
}

// TestCutShort: whenever a run ends in the middle, each file is the old one or the new one, the next run settles, and
// undo gives everything back.
func TestCutShort(t *testing.T) {
	t.Parallel()
	whole := newMachine(t)
	before := whole.etc()
	whole.apply(full)
	after := whole.etc()
	points := 0
	for end := 1; ; end++ {
		m := newMachine(t)
		points = 0
		m.station.Fault = func(string) {
			if points++; points == end {
				panic("the power is gone")
			}
		}
		if !m.cut(full) {
			break
		}
		for name, text := range m.etc() {
			if old, wasThere := before[name]; text != same(m, whole, after[name]) && (!wasThere ||
				text != same(m, whole, old)) {
				t.Errorf("point %d: %s is neither the old one nor the new one: %q", end, name, text)
			}
		}
		m.station.Fault = nil
		m.settleAndUndo(end, whole, before, after)
	}
	if points < 2*8 { // before and after each file
		t.Errorf("only %d points", points)
	}
}

// same is a text of one machine as it would be on another.
func same(m, other *machine, text string) string { return strings.ReplaceAll(text, other.dir, m.dir) }

// cut applies a state, and tells whether that was cut short.
func (m *machine) cut(state string) (short bool) {
	defer func() { short = recover() != nil }()
	m.apply(state)
	return false
}

// settleAndUndo runs again after a run that was cut short, and takes both back.
func (m *machine) settleAndUndo(end int, whole *machine, before, after map[string]string) {
	m.Helper()
	if _, err := m.station.Tidy(); err != nil {
		m.Fatal(err)
	}
	m.apply(full)
	for name, text := range m.etc() {
		if want := same(m, whole, after[name]); text != want && !strings.HasSuffix(name, "applied.json") {
			m.Errorf("point %d: %s is not settled: %q, want %q", end, name, text, want)
		}
	}
	ids, err := m.station.Standing()
	for _, id := range ids {
		if err == nil {
			_, _, err = m.station.Undo(id, false, nil)
		}
	}
	if err != nil {
		m.Fatalf("point %d: %v", end, err)
	}
	now := m.etc()
	if len(now) != len(before) {
		m.Errorf("point %d: left %v", end, slices.Sorted(maps.Keys(now)))
	}
	for name, text := range before {
		if now[name] != same(m, whole, text) {
			m.Errorf("point %d: %s is not as it was: %q", end, name, now[name])
		}
	}
}

// TestNotRoot: who cannot change the machine's files is told so, and may look what would change.
func TestNotRoot(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	m.station.UID = 4711
	if _, _, err := m.try(full, false); !errors.Is(err, ErrNotRoot) {
		t.Errorf("%v", err)
	}
	if r, _, err := m.try(full, true); err != nil || !r.Moves() {
		t.Errorf("a dry run: %v", err)
	}
}

// TestOpenRecord: nobody may write for root what undo does.
func TestOpenRecord(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	if err := errors.Join(os.MkdirAll(m.station.State, 0o700), os.Chmod(m.station.State, 0o777)); err != nil {
		t.Fatal(err)
	}
	before := m.etc()
	if _, _, err := m.try(full, false); !errors.Is(err, ErrRecord) || !maps.Equal(before, m.etc()) {
		t.Errorf("%v", err)
	}
}

// TestLinks: a link in the place of a file of ours is not followed, and nothing is written into a folder that others
// can write; the machine's own files may be links.
func TestLinks(t *testing.T) {
	t.Parallel()
	for name, in := range map[string]func(m *machine){
		"a description": func(m *machine) { m.link("etc/victim", "etc/unicrux/hosts/forge.toml") },
		"one that is to be absent": func(m *machine) {
			m.link("etc/victim", "etc/unicrux/hosts/old.toml")
		},
		"the settings for ssh": func(m *machine) { m.link("etc/victim", "etc/ssh/ssh_config.d/50-unicrux.conf") },
		"the marks":            func(m *machine) { m.link("etc/nowhere", "etc/unicrux/applied.json") },
		"an open folder": func(m *machine) {
			m.put("", "etc/unicrux/hosts/x")
			if err := os.Chmod(filepath.Join(m.places.Machine, "hosts"), 0o777); err != nil {
				m.Fatal(err)
			}
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			m := newMachine(t)
			m.put("a secret of somebody's", "etc/victim")
			in(m)
			_, _, err := m.try(full+"[absent]\nhosts = [\"old\"]\n", false)
			if !errors.Is(err, ErrLink) && !errors.Is(err, ErrOpen) ||
				m.read("etc/victim") != "a secret of somebody's" {
				t.Errorf("%v, %q", err, m.read("etc/victim"))
			}
		})
	}
	m := newMachine(t)
	m.put(m.read("etc/gitconfig"), "etc/real")
	if err := os.Remove(m.places.Git); err != nil {
		t.Fatal(err)
	}
	m.link("etc/real", "etc/gitconfig")
	m.apply(full)
	if info, err := os.Lstat(m.places.Git); err != nil || info.Mode()&fs.ModeSymlink == 0 ||
		!strings.Contains(m.read("etc/real"), "git.config") {
		t.Errorf("the machine's own link: %v", err)
	}
}

func (m *machine) link(to, name string) {
	m.Helper()
	path := filepath.Join(m.dir, name)
	if err := errors.Join(os.MkdirAll(filepath.Dir(path), 0o755), os.Symlink(filepath.Join(m.dir, to),
		path)); err != nil {
		m.Fatal(err)
	}
}

// TestUnreadableFolder: an error of the system names the file once.
func TestUnreadableFolder(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	m.put("not a folder", "etc/unicrux")
	_, _, err := m.try(full, false)
	if err == nil || errors.Is(err, fs.ErrNotExist) || errors.Is(err, workstation.ErrUnreadable) {
		t.Errorf("%v", err)
	}
}
