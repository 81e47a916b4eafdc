package apply

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
)

// TestDeviations: each kind of deviation is told with the place that mends it, and nothing is told of what is as it was
// left.
func TestDeviations(t *testing.T) {
	t.Parallel()
	for name, row := range map[string]struct {
		do   func(m *machine)
		want []string
	}{
		"nothing": {func(*machine) {}, nil},
		"lines of others": {func(m *machine) {
			m.put(m.read("etc/ssh/ssh_known_hosts")+"quay.example "+otherKey+"\n", "etc/ssh/ssh_known_hosts")
			m.put(m.read("etc/gitconfig")+"[core]\n\tpager = less\n", "etc/gitconfig")
		}, nil},
		"a description": {func(m *machine) { m.put(forge+"# mine\n", "etc/unicrux/hosts/forge.toml") },
			[]string{"host etc/unicrux/hosts/forge.toml"}},
		"the policy": {func(m *machine) { m.put("unicrux = 1\n", "etc/unicrux/policy.toml") },
			[]string{"policy etc/unicrux/policy.toml"}},
		"our lines": {func(m *machine) {
			m.put(strings.Replace(m.read("etc/ssh/ssh_known_hosts"), "@revoked", "#revoked", 1),
				"etc/ssh/ssh_known_hosts")
		}, []string{"trust etc/ssh/ssh_known_hosts"}},
		"our lines are gone": {func(m *machine) { m.put("", "etc/ssh/ssh_known_hosts") },
			[]string{"trust etc/ssh/ssh_known_hosts"}},
		"ssh, by an earlier line": {func(m *machine) {
			m.put("Host *.tidewater.example\n\tPort 22\n", "etc/ssh/ssh_config.d/10-site.conf")
		}, []string{"host etc/ssh/ssh_config.d/50-unicrux.conf overruled " +
			"(forge.tidewater.example port) by etc/ssh/ssh_config.d/10-site.conf:2"}},
		"ssh, without the folder": {func(m *machine) { m.put("Host *\n", "etc/ssh/ssh_config") },
			[]string{"host etc/ssh/ssh_config.d/50-unicrux.conf overruled (forge.tidewater.example) by etc/ssh/ssh_config:0"}},
		"git, by a later line": {func(m *machine) {
			m.put(m.read("etc/gitconfig")+"[core]\n\tsshCommand = ssh -v\n", "etc/gitconfig")
		}, []string{"git etc/unicrux/git.config overruled (core.sshcommand) by etc/gitconfig:6"}},
		"git, without the include": {func(m *machine) { m.put("", "etc/gitconfig") },
			[]string{"git etc/unicrux/git.config overruled (core.sshcommand) by etc/gitconfig:0",
				"git etc/unicrux/git.config overruled (http.https://forge.tidewater.example/.curloptresolve) by etc/gitconfig:0",
				"git etc/unicrux/git.config overruled (ssh.variant) by etc/gitconfig:0"}},
		"git, unreadable": {func(m *machine) { m.put("[", "etc/gitconfig") },
			[]string{"git etc/unicrux/git.config overruled () by etc/gitconfig:0"}},
		"keys, in another file": {func(m *machine) {
			m.put("GlobalKnownHostsFile /etc/other\n"+m.read("etc/ssh/ssh_config"), "etc/ssh/ssh_config")
		}, []string{"trust etc/ssh/ssh_known_hosts overruled () by etc/ssh/ssh_config:1"}},
		"keys, revoked by others": {func(m *machine) {
			m.put(m.read("etc/ssh/ssh_known_hosts")+"@revoked * "+otherKey+"\n", "etc/ssh/ssh_known_hosts")
		}, []string{"trust etc/ssh/ssh_known_hosts overruled ([forge.tidewater.example]:2222) by " +
			"etc/ssh/ssh_known_hosts:9"}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			m := newMachine(t)
			m.apply(full)
			row.do(m)
			list, err := Deviations(m.station, m.places)
			if err != nil {
				t.Fatal(err)
			}
			got := []string{}
			for _, d := range list {
				text := string(d.Part) + " " + strings.TrimPrefix(d.Path, m.dir+"/")
				if d.Overruled {
					text += fmt.Sprintf(" overruled (%s) by %s:%d", d.Name, strings.TrimPrefix(d.By, m.dir+"/"), d.Line)
				}
				got = append(got, text)
			}
			if slices.Sort(got); !slices.Equal(got, row.want) {
				t.Errorf("%q\nwant %q", got, row.want)
			}
			if name == "git, unreadable" {
				if _, _, err := m.try(full, false); err == nil || !strings.Contains(err.Error(), "bad config line") {
					t.Errorf("applied again: %v", err)
				}
				return
			}
			if r := m.apply(full); len(row.want) > 0 && !r.Moves() && m.statuses(r)[Overruled] == 0 {
				t.Errorf("applied again: %+v", r)
			}
		})
	}
	m := newMachine(t)
	if list, err := Deviations(m.station, m.places); err != nil || len(list) > 0 {
		t.Errorf("nothing was applied: %v %v", list, err)
	}
}

// TestBlock: our lines are put where they were, and whatever is around them stays.
func TestBlock(t *testing.T) {
	t.Parallel()
	block := func(lines string) string { return blockBegin + "\n" + lines + blockEnd + "\n" }
	for _, row := range []struct{ old, lines, want string }{
		{"", "", ""}, {"", "a\n", block("a\n")}, {"x", "a\n", "x\n" + block("a\n")}, {"x\n", "", "x\n"},
		{"x\n" + block("a\n") + "y\n", "b\n", "x\n" + block("b\n") + "y\n"},
		{"x\n" + block("a\n") + "y\n", "", "x\ny\n"}, {block("a\n"), "", ""},
		{strings.TrimSuffix(block("a\n"), "\n"), "b\n", block("b\n")},
		{strings.ReplaceAll(block("a\n"), "\n", "\r\n"), "b\n", block("b\n")},
	} {
		got, err := withBlock([]byte(row.old), []byte(row.lines))
		if err != nil || string(got) != row.want {
			t.Errorf("%q with %q: %q %v, want %q", row.old, row.lines, got, err, row.want)
		}
	}
	for _, old := range []string{blockBegin + "\n", blockEnd + "\n", blockEnd + "\n" + blockBegin + "\n",
		block("a\n") + block("b\n"), block("a\n") + blockEnd + "\n", block(blockBegin + "\n")} {
		if got, err := withBlock([]byte(old), []byte("a\n")); !errors.Is(err, ErrMarks) {
			t.Errorf("%q: %q %v", old, got, err)
		}
	}
}

// FuzzBlock: our lines go in and come out as they are, and lines of others are the same before and after.
func FuzzBlock(f *testing.F) {
	f.Add([]byte("x\n"+blockBegin+"\na\n"+blockEnd+"\ny"), []byte("b\n"))
	f.Add([]byte(blockEnd+"\n"+blockBegin), []byte(""))
	f.Fuzz(func(t *testing.T, old, lines []byte) {
		if strings.Contains(string(lines), blockBegin) || strings.Contains(string(lines), blockEnd) ||
			len(lines) > 0 && lines[len(lines)-1] != '\n' {
			return
		}
		before, _, behind, err := splitBlock(old)
		if err != nil {
			return
		}
		text, err := withBlock(old, lines)
		if err != nil {
			t.Fatal(err)
		}
		if again, err := withBlock(text, lines); err != nil || string(again) != string(text) {
			t.Errorf("the second time: %q %v", again, err)
		}
		gone, err := withBlock(text, nil)
		if want := string(before) + string(behind); err != nil || string(gone) != want &&
			string(gone) != string(before)+"\n"+string(behind) {
			t.Errorf("without ours: %q %v, want %q", gone, err, want)
		}
	})
}
