package render

import (
	"flag"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/diagnose/seen"
	"anchorage.example/unicrux/core/workstation"
)

var update = flag.Bool("update", false, "rewrite the golden files that differ")

// golden compares text with a file, and rewrites the file with -update.
func golden(t *testing.T, name, got string) {
	t.Helper()
	path := filepath.Join("testdata", name)
	want, err := os.ReadFile(path)
	if err == nil && string(want) == got {
		return
	}
	if *update {
		if err := os.WriteFile(path, []byte(got), 0o644); err != nil {
			t.Fatal(err)
		}
		return
	}
	t.Errorf("%s differs (%v). To accept it: go test ./render -update\ngot:\n%s\nwant:\n%s", path, err, got, want)
}

const print = "SHA256:q1N0J9rYw3bT5vXkPzL2mEoAaHcDsUiFgRtYhBnMjKx"

func broken() *finding.Way {
	w := &finding.Way{
		Question: finding.Question{URL: "ssh://git@forge.tidewater.example/buoys/drift-model", Host: "forge",
			Repo:      "buoys/drift-model",
			Transport: "ssh", Purpose: finding.Push, User: "git"},
		Crux: &finding.Crux{Code: causes.KeyNotRegistered, Stage: causes.SignIn,
			Summary: causes.Summary(causes.KeyNotRegistered), Certainty: finding.Proved,
			Evidence: []finding.Evidence{
				{Name: seen.Offered, Text: "forge_ed25519  " + print, Origin: "~/.ssh/unicrux.conf:4"},
				{Name: seen.HostSays, Text: "“permission denied”"},
			}},
		Mends: []finding.Mend{
			{Summary: "Register the key with forge.", Command: []string{"unicrux", "key",
				"register", "forge_ed25519", "forge"}, By: causes.You, Automatic: true},
			{
				Summary: "Ask somebody who knows the host better than this workstation does, and who has the time for it today.",
				By:      causes.Host,
			},
		},
		Notes: []finding.Note{{Code: causes.KeyWeak, Summary: "The key is weak by today's standards."}},
	}
	for i, name := range causes.Stages {
		stage := finding.Stage{Name: name, State: finding.Open, Took: time.Duration(i+1) * time.Millisecond,
			Facts: []finding.Fact{{Name: "fact", Value: "value " + string(name),
				Origin: "~/.ssh/config:" + string(rune('1'+i))}}}
		switch {
		case name == causes.SignIn:
			stage.State = finding.Broken
		case i > 4:
			stage = finding.Stage{Name: name, State: finding.NotReached}
		}
		w.Stages = append(w.Stages, stage)
	}
	return w
}

func open() *finding.Way {
	w := broken()
	w.Crux, w.Mends, w.Account, w.Key = nil, nil, "ines.marlow", "forge_ed25519"
	for i := range w.Stages {
		w.Stages[i].State = finding.Open
	}
	return w
}

func TestWays(t *testing.T) {
	host := open()
	host.Question.Repo, host.Question.Purpose = "", finding.Clone
	host.Stages[5].State, host.Stages[6].State = finding.Skipped, finding.Skipped
	for _, row := range []struct {
		name  string
		style Style
		way   *finding.Way
	}{
		{"broken-plain.txt", Style{}, broken()},
		{"broken-60.txt", Style{Width: 60, Lines: true}, broken()},
		{"broken-colour.txt", Style{Width: 100, Lines: true, Depth: TrueColour}, broken()},
		{"broken-detail.txt", Style{Width: 80, Detail: true}, broken()},
		{"open.txt", Style{Width: 100, Lines: true}, open()},
		{"open-host.txt", Style{Width: 100, Lines: true}, host},
	} {
		got := Way(row.style, row.way)
		golden(t, row.name, got)
		for line := range strings.Lines(got) {
			plain := stripColours(strings.TrimSuffix(line, "\n"))
			if columns(plain) > row.style.width() && !strings.Contains(plain, print) {
				t.Errorf("%s: wider than %d: %q", row.name, row.style.width(), plain)
			}
		}
	}
	golden(t, "broken.json", JSON(WayDocument(broken())))
	golden(t, "open.json", JSON(WayDocument(open())))
}

func stripColours(text string) string {
	var b strings.Builder
	for {
		before, rest, found := strings.Cut(text, "\x1b[")
		b.WriteString(before)
		if !found {
			return b.String()
		}
		_, text, _ = strings.Cut(rest, "m")
	}
}

func TestWhatIsCopiedStaysWhole(t *testing.T) {
	for width := 20; width <= 120; width++ {
		text := Way(Style{Width: width}, broken())
		for _, whole := range []string{"unicrux key register forge_ed25519 forge", print} {
			if !strings.Contains(text, whole) {
				t.Errorf("at %d columns %q is broken:\n%s", width, whole, text)
			}
		}
	}
}

func TestCommandIsQuotedForTheShell(t *testing.T) {
	for want, words := range map[string][]string{
		"unicrux check forge":  {"unicrux", "check", "forge"},
		`a 'b c' 'it'\''s' ''`: {"a", "b c", "it's", ""},
		`'$(x)' 'a;b'`:         {"$(x)", "a;b"},
	} {
		if got := Command(words); got != want {
			t.Errorf("Command(%q) = %s, want %s", words, got, want)
		}
	}
}

func TestPlan(t *testing.T) {
	steps := []workstation.Difference{
		{Summary: "Make the private key.", Path: "/home/ines/.ssh/key", Secret: true},
		{Summary: "Settle how ssh reaches forge.", Path: "/home/ines/.ssh/unicrux.conf", Before: []byte("Host forge\n"),
			After: []byte("Host forge\n    Port 22\n")},
		{Summary: "Register key with forge."},
	}
	tilde := func(path string) string { return strings.Replace(path, "/home/ines", "~", 1) }
	golden(t, "plan.txt", Plan(Style{}, steps, tilde))
	golden(t, "plan.json", JSON(PlanDocument(steps)))
	if got := Plan(Style{}, nil, tilde); got != "  Nothing would change.\n" {
		t.Errorf("an empty plan: %q", got)
	}
}

func TestAge(t *testing.T) {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	for days, want := range map[int]string{
		0: "today (2026-11-23)", 1: "1 day ago (2026-11-22)", 59: "59 days ago (2026-09-25)",
		60: "2 months ago (2026-09-24)", 729: "24 months ago (2024-11-24)", 730: "2 years ago (2024-11-23)",
	} {
		if got := age(now.AddDate(0, 0, -days), now); got != want {
			t.Errorf("%d days: %q, want %q", days, got, want)
		}
	}
}

func TestTooWideATableIsStacked(t *testing.T) {
	rows := [][]string{{"forge_ed25519", print}, {"id_rsa", ""}}
	golden(t, "table.txt", Style{Width: 100}.table([]string{"key", "fingerprint"},
		rows)+"\n"+Style{Width: 40}.table([]string{"key", "fingerprint"}, rows))
}

func TestChangesFitTheTerminal(t *testing.T) {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	all := []workstation.Change{
		{ID: 1, When: now, Summary: "Make a key for the host that has a rather long name here.", Undone: &now,
			Steps: []workstation.Step{{Summary: "Settle how ssh reaches forge.tidewater.example.", Done: true,
				File: &workstation.FileStep{Path: "/home/ines/.ssh/unicrux.conf"}}}},
		{ID: 2, When: now, Summary: "Register the key with forge.",
			Steps: []workstation.Step{{Summary: "Register it.", Host: &workstation.HostStep{Host: "forge"}}}},
	}
	text := Changes(Style{Width: 60}, all,
		func(path string) string { return strings.Replace(path, "/home/ines", "~", 1) }, now)
	for line := range strings.Lines(text) {
		if columns(strings.TrimSuffix(line, "\n")) > 60 {
			t.Errorf("too wide: %q", line)
		}
	}
	for _, words := range []string{"Taken back", "~/.ssh/unicrux.conf", "not known whether it", "unicrux undo NUMBER"} {
		if !strings.Contains(text, words) {
			t.Errorf("it does not say %q:\n%s", words, text)
		}
	}
	if strings.Index(text, "  2  ") > strings.Index(text, "  1  ") {
		t.Errorf("the newest does not come first:\n%s", text)
	}
	if got := Changes(Style{}, nil, nil, now); got != "  Nothing was changed yet.\n" {
		t.Errorf("%q", got)
	}
}

// TestTableWithout leaves out no more than the terminal is too narrow for, and nothing once rows are
// blocks.
func TestTableWithout(t *testing.T) {
	heads, rows := []string{"token", "made", "ends", "kept"},
		[][]string{{"the-forge-of-the-whole-company", "2026-11-28", "2026-12-28", "sealed"}}
	for width, want := range map[int]string{
		64: "token made ends kept the-forge-of-the-whole-company 2026-11-28 2026-12-28 sealed",
		60: "token ends kept the-forge-of-the-whole-company 2026-12-28 sealed",
		50: "token ends the-forge-of-the-whole-company 2026-12-28",
		40: "token the-forge-of-the-whole-company made 2026-11-28 ends 2026-12-28 kept sealed",
	} {
		if got := strings.Join(strings.Fields(Style{Width: width}.tableWithout(heads, rows, "made", "kept")),
			" "); got != want {
			t.Errorf("%d columns: %q, want %q", width, got, want)
		}
	}
	if len(heads) != 4 || len(rows[0]) != 4 || rows[0][1] != "2026-11-28" {
		t.Errorf("the caller's own: %q, %q", heads, rows)
	}
}

// TestColours: each can be read on white and on black (WCAG 2.2, contrast ratio), with all colours and with 256, where
// the palette has nothing nearer than 4.4.
func TestColours(t *testing.T) {
	t.Parallel()
	linear := func(c int) float64 {
		x := float64(c) / 255
		if x <= 0.04045 {
			return x / 12.92
		}
		return math.Pow((x+0.055)/1.055, 2.4)
	}
	for name, tone := range map[string]tone{"teal": teal, "ochre": ochre, "rose": rose, "grey": grey} {
		var r, g, b, n int
		if _, err := fmt.Sscanf(tone.rgb, "38;2;%d;%d;%d", &r, &g, &b); err != nil {
			t.Fatal(err)
		}
		if _, err := fmt.Sscanf(tone.c256, "38;5;%d", &n); err != nil {
			t.Fatal(err)
		}
		steps, cube := []int{0, 95, 135, 175, 215, 255}, n-16
		colours := map[string][3]int{"24 bits": {r, g, b}}
		if n >= 232 {
			colours["256"] = [3]int{8 + (n-232)*10, 8 + (n-232)*10, 8 + (n-232)*10}
		} else {
			colours["256"] = [3]int{steps[cube/36], steps[cube/6%6], steps[cube%6]}
		}
		for depth, c := range colours {
			light := 0.2126*linear(c[0]) + 0.7152*linear(c[1]) + 0.0722*linear(c[2])
			least := map[string]float64{"24 bits": 4.5, "256": 4.4}[depth]
			if white, black := 1.05/(light+0.05), (light+0.05)/0.05; white < least || black < least {
				t.Errorf("%s in %s: %.2f on white, %.2f on black", name, depth, white, black)
			}
		}
	}
	mono := Style{Depth: Monochrome}
	if got := mono.paint(bold, "x") + mono.paint(rose, "x"); got != "\x1b[1mx\x1b[0mx" {
		t.Errorf("without colours: %q", got)
	}
}
