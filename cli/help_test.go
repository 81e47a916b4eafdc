package cli

import (
	"flag"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/spf13/cobra"

	"anchorage.example/unicrux/render"
)

var update = flag.Bool("update", false, "write the pages of help anew")

func newRoot() *cobra.Command { return (&app{prompter: &prompter{console: &console{}}}).root() }

// everyCommand calls visit for each command that people see.
func everyCommand(c *cobra.Command, visit func(*cobra.Command)) {
	visit(c)
	for _, child := range c.Commands() {
		if child.IsAvailableCommand() {
			everyCommand(child, visit)
		}
	}
}

// TestHelpPages holds the page of each command, at 80 columns.
func TestHelpPages(t *testing.T) {
	t.Parallel()
	everyCommand(newRoot(), func(c *cobra.Command) {
		name := strings.ReplaceAll(c.CommandPath(), " ", "-") + ".txt"
		got := render.Help(render.Style{Width: 80}, helpPage(c))
		path := filepath.Join("testdata", "help", name)
		if *update {
			if err := os.WriteFile(path, []byte(got), 0o644); err != nil {
				t.Error(err)
			}
			return
		}
		want, err := os.ReadFile(path)
		if err != nil || string(want) != got {
			t.Errorf("%s differs (%v). To accept it: go test ./cli -update\n%s", path, err, got)
		}
	})
}

// TestEveryCommandIsExplained: each has an example that calls it, and none is called that does not exist.
func TestEveryCommandIsExplained(t *testing.T) {
	t.Parallel()
	root := newRoot()
	everyCommand(root, func(c *cobra.Command) {
		path := strings.TrimPrefix(c.CommandPath(), "unicrux ")
		if !isNoun(c) && len(examples[path]) == 0 {
			t.Errorf("%s has no example", path)
		}
		for _, line := range examples[path] {
			if !strings.Contains(line, "unicrux "+path) {
				t.Errorf("the example of %s calls something else: %s", path, line)
			}
		}
	})
	for path := range examples {
		if path == "help" { // the library adds it when the program runs
			continue
		}
		if found, rest, err := root.Find(strings.Fields(path)); err != nil || len(rest) > 0 || found == root {
			t.Errorf("an example of %s, which does not exist", path)
		}
	}
}

// TestMeant finds what somebody meant.
func TestMeant(t *testing.T) {
	t.Parallel()
	root := newRoot()
	for word, want := range map[string]string{"chek": "unicrux check", "login": "unicrux token sign-in HOST",
		"hots": "unicrux host", "xyzzy": "", "status": "unicrux look"} {
		if got := meant(root, word); got != want {
			t.Errorf("%q: %q, want %q", word, got, want)
		}
	}
	keys, _, err := root.Find([]string{"key"})
	if err != nil || meant(keys, "lst") != "unicrux key list" || meant(keys, "login") != "" {
		t.Errorf("of the keys: %q, %v", meant(keys, "lst"), err)
	}
	check, _, err := root.Find([]string{"check"})
	if err != nil || nearestOption(check, "tiemout") != "--timeout" || nearestOption(check, "frobnicate") != "" {
		t.Errorf("an option: %q, %v", nearestOption(check, "tiemout"), err)
	}
	for _, word := range elsewhereWords {
		name := strings.Fields(word)[0]
		if found, _, err := root.Find([]string{name}); err != nil || found == root {
			t.Errorf("%q is no command", word)
		}
	}
}

// TestTopics: each has a page.
func TestTopics(t *testing.T) {
	t.Parallel()
	root := newRoot()
	for _, name := range topicNames() {
		page, found := topic(root, name)
		if text := render.Help(render.Style{Width: 80}, page); !found || len(text) < 100 {
			t.Errorf("%s: %q", name, text)
		}
	}
	if _, found := topic(root, "weather"); found {
		t.Error("a topic that does not exist")
	}
}
