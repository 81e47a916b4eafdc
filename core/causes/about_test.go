package causes

import (
	"flag"
	"fmt"
	"os"
	"strings"
	"testing"
)

var update = flag.Bool("update", false, "write docs/causes.md anew")

// pageFile is the page of all codes, from this folder.
const pageFile = "../../docs/causes.md"

// TestCausesPage holds the page of all codes against the catalogue that it is made from.
func TestCausesPage(t *testing.T) {
	want := page()
	if *update {
		if err := os.WriteFile(pageFile, []byte(want), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	got, err := os.ReadFile(pageFile)
	if err != nil || string(got) != want {
		t.Errorf(
			"%s is not what the catalogue says (%v); to write it anew: go test ./core/causes -update",
			pageFile,
			err,
		)
	}
}

// page says of every code what it means, how it looks and what mends it.
func page() string {
	var b strings.Builder
	b.WriteString(
		"# What stops the way\n\nEvery code of the catalogue, in the order of the way: of two that explain the " +
			"same break the earlier one is the crux. `unicrux explain CODE` prints the same; `unicrux check` finds " +
			"out which one it is. This page is made from the catalogue.\n",
	)
	stage := StageName("none")
	for _, code := range AllCodes() {
		about := AboutOf(code)
		if about.Stage != stage {
			stage = about.Stage
			fmt.Fprintf(&b, "\n## %s\n", map[StageName]string{"": "Notes: they stop nothing",
				Beyond: "Beyond: no matter of the way to the host"}[stage]+plain(stage))
		}
		fmt.Fprintf(&b, "\n### `%s`\n\n%s\n", code, about.Summary)
		if about.Notice != "" {
			fmt.Fprintf(&b, "Where it does not stop the way: %s\n", about.Notice)
		}
		if len(about.Looks) > 0 {
			fmt.Fprintf(&b, "\nSeen as: `%s`\n", strings.Join(about.Looks, "`, `"))
		}
		if about.Mend != "" {
			fmt.Fprintf(&b, "\nMend (%s): %s\n", about.By, about.Mend)
		}
		if about.Tell != "" {
			fmt.Fprintf(&b, "\nTold from others by: %s\n", about.Tell)
		}
	}
	return b.String()
}

// plain is the heading of an ordinary stage.
func plain(stage StageName) string {
	if stage == "" || stage == Beyond {
		return ""
	}
	return strings.ToUpper(string(stage[:1])) + string(stage[1:])
}

func TestLookOf(t *testing.T) {
	for form, want := range map[string]string{
		`host key for \S+ has changed`:          "host key for … has changed",
		`https?://\S+/x`:                        "https://…/x",
		`(the agent|it) has no (identities|ke)`: "the agent has no identities",
		`unable to get (local )?issuer`:         "unable to get local issuer",
		`failed\.\s*CAfile`:                     "failed. CAfile",
		`^fatal: .*`:                            "fatal",
		`short\nthe longest line`:               "the longest line",
		`(`:                                     "",
	} {
		if got := lookOf(form); got != want {
			t.Errorf("%s: %q, want %q", form, got, want)
		}
	}
}

// TestAboutSaysAll holds that no code is without a meaning, no mend without somebody who can do it, and that nothing
// in them is a word that stands for something else.
func TestAboutSaysAll(t *testing.T) {
	for _, code := range AllCodes() {
		about := AboutOf(code)
		if about.Summary == "" || about.Notice == about.Summary || about.Mend != "" && about.By == "" {
			t.Errorf("%+v", about)
		}
		words := strings.ReplaceAll(about.Mend, "unicrux host set HOST", "")
		for _, stands := range []string{"HOST", "REPO", "ACCOUNT", ": URL"} {
			if strings.Contains(words, stands) {
				t.Errorf("%s: %s", code, about.Mend)
			}
		}
	}
}
