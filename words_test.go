package main

import (
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// plain are words of a private English that nobody outside would understand, or that mean something else there: what is
// shown to people is in the words of engineers.
var plain = regexp.MustCompile(`(?i)\b(private half|public half|halves|pages? for people|for ever|any more|shall|` +
	`good for nothing|rewriting rule|by hand|lies|stands|is told|are told|has ended|go(es|ing)? the way|` +
	`is kept back|nobody can be asked|the other end|not told|takes (the key|no|openssh|ssh:|%s|this for)|--[a-z]+ takes|locked key|ssh settings|settings of ssh|and ended|that ended)\b|^ended `)

// wordsOf lists what a source shows to people: its literals with a blank in them that are no forms.
func wordsOf(source string) []string {
	var list []string
	files := token.NewFileSet()
	file, err := parser.ParseFile(files, "", source, 0)
	if err != nil {
		return nil
	}
	ast.Inspect(file, func(n ast.Node) bool {
		literal, is := n.(*ast.BasicLit)
		if !is || literal.Kind != token.STRING || strings.HasPrefix(literal.Value, "`") &&
			strings.ContainsAny(literal.Value, `\|`) {
			return true
		}
		if text, err := strconv.Unquote(literal.Value); err == nil && strings.Contains(text, " ") {
			list = append(list, text)
		}
		return true
	})
	return list
}

// TestPlainDocs: the documentation neither. What is quoted as code is left out.
func TestPlainDocs(t *testing.T) {
	t.Parallel()
	code := regexp.MustCompile("(?s)```.*?```|`[^`\n]*`")
	paths, err := filepath.Glob(filepath.Join("docs", "*.md"))
	if err != nil || len(paths) < 8 {
		t.Fatal(paths, err)
	}
	for _, path := range append(paths, "README.md", "CONTRIBUTING.md", "SECURITY.md", "CHANGELOG.md") {
		text, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		for line := range strings.Lines(code.ReplaceAllString(string(text), "")) {
			if word := plain.FindString(line); word != "" {
				t.Errorf("%s says %q in %q", path, word, line)
			}
		}
	}
}

// TestPlainWords: nothing that is shown to people is in words of our own.
func TestPlainWords(t *testing.T) {
	t.Parallel()
	eachFile(t, func(path, whole string) {
		room, _, _ := strings.Cut(path, "/")
		if strings.HasSuffix(path, "_test.go") || !slices.Contains([]string{"core", "cli", "render", "holder"}, room) ||
			strings.HasPrefix(path, "core/draft/") { // comments in a file that a program writes
			return
		}
		for _, text := range wordsOf(whole) {
			if word := plain.FindString(text); word != "" {
				t.Errorf("%s says %q in %q", path, word, text)
			}
		}
	})
	if plain.FindString("the way is open") != "" || plain.FindString("the public half of the key") == "" {
		t.Error("the words are not recognised")
	}
}
