package main

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

func TestFind(t *testing.T) {
	const source = `
	die(_("bad repository '%s'"),
	    name);
	die(
		"no such host: "
		"%.*s, port %d", 1);
	error("short"); printf("not one of ours: %s", x);
	error(other, NULL, "three in\n front"); error("three in\n front");
`
	want := []string{"bad repository '%s'", "no such host: %s, port %s", "three in front"}
	if got := find(source, `(?:die|error)\s*\(`); !slices.Equal(got, want) {
		t.Errorf("%q", got)
	}
	if got := find("raise error.Abort(_(b'repository %s ' b\"isn't here\") % x)", `(?:_)\s*\(`); len(got) != 1 ||
		got[0] != "repository %s isn't here" {
		t.Errorf("%q", got)
	}
}

// TestCompare: what the table has is not printed again, and a folder without sources is refused.
func TestCompare(t *testing.T) {
	dir := t.TempDir()
	if _, err := compare(&strings.Builder{}, "../core/causes/messages.txt", dir); err == nil {
		t.Error("no sources, and no error")
	}
	if err := os.Mkdir(filepath.Join(dir, "git-9"), 0o755); err != nil {
		t.Fatal(err)
	}
	text := "die(\"bad repository '%s'\"); die(\"the tide is out\");"
	if err := os.WriteFile(filepath.Join(dir, "git-9", "connect.c"), []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	var out strings.Builder
	missing, err := compare(&out, "../core/causes/messages.txt", dir)
	if err != nil || missing != 1 || !strings.Contains(out.String(), "the tide is out") {
		t.Errorf("%d, %v: %s", missing, err, out.String())
	}
}
