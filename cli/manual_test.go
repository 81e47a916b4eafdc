package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/cpuguy83/go-md2man/v2/md2man"
	"github.com/spf13/cobra"

	"anchorage.example/unicrux/render"
)

// kept holds a page under docs to what the commands say, or writes it anew.
func kept(t *testing.T, got string, parts ...string) {
	t.Helper()
	path := filepath.Join(append([]string{"..", "docs"}, parts...)...)
	if *update {
		if err := os.WriteFile(path, []byte(got), 0o644); err != nil {
			t.Fatal(err)
		}
		return
	}
	if want, err := os.ReadFile(path); err != nil || string(want) != got {
		t.Errorf("%s is not what the commands say (%v): go test ./cli -update", path, err)
	}
}

// TestReference holds docs/reference.md to the commands.
func TestReference(t *testing.T) {
	root := newRoot()
	var b strings.Builder
	b.WriteString("# Reference\n\nEvery command, with its options, made from the program itself (`go test ./cli -update`). " +
		"`unicrux help COMMAND` shows the same in a terminal; [guide.md](guide.md) is the job in the order in which people do it.\n")
	everyCommand(root, func(c *cobra.Command) {
		if c == root {
			return
		}
		page := helpPage(c)
		depth := strings.Repeat("#", len(strings.Fields(c.CommandPath())))
		fmt.Fprintf(&b, "\n%s %s\n\n```\n%s\n```\n\n%s", depth, strings.TrimPrefix(c.CommandPath(), "unicrux "), page.Use,
			markdown(page.About))
		for _, group := range page.Groups {
			b.WriteString(table(group))
		}
		if len(page.Examples) > 0 {
			b.WriteString("\n```\n" + strings.Join(page.Examples, "\n") + "\n```\n")
		}
	})
	for _, name := range topicNames() {
		page, _ := topic(root, name)
		fmt.Fprintf(&b, "\n## help %s\n\n%s", name, markdown(page.About))
		for _, group := range page.Groups {
			b.WriteString(table(group))
		}
	}
	kept(t, b.String(), "reference.md")
}

// markdown is the text of a page: lines that begin with a space are as they are.
func markdown(text string) string {
	var b strings.Builder
	inside := false
	for line := range strings.Lines(strings.TrimSuffix(text, "\n") + "\n") {
		if code := strings.HasPrefix(line, " "); code != inside {
			if code && !strings.HasSuffix(b.String(), "\n\n") {
				b.WriteString("\n")
			}
			b.WriteString("```\n")
			inside = code
		}
		b.WriteString(line)
	}
	if inside {
		b.WriteString("```\n")
	}
	return b.String()
}

// table is a group of a page.
func table(g render.HelpGroup) string {
	if len(g.Rows) == 0 {
		return ""
	}
	text := "\n| " + strings.ToLower(g.Head) + " | |\n| --- | --- |\n"
	for _, row := range g.Rows {
		cell := strings.NewReplacer("|", "\\|")
		text += "| `" + cell.Replace(row.Name) + "` | " + cell.Replace(row.About) + " |\n"
	}
	return text
}

// TestManual holds the manual pages to the commands: one for the program, and one for each of its nouns and verbs.
func TestManual(t *testing.T) {
	root := newRoot()
	pages := map[string]string{"unicrux": manual(root, root)}
	for _, c := range root.Commands() {
		if c.IsAvailableCommand() {
			pages["unicrux-"+c.Name()] = manual(root, c)
		}
	}
	for name, text := range pages {
		kept(t, string(md2man.Render([]byte(text))), "man", name+".1")
	}
	entries, err := os.ReadDir(filepath.Join("..", "docs", "man"))
	if err != nil {
		t.Fatal(err)
	}
	for _, entry := range entries {
		if _, found := pages[strings.TrimSuffix(entry.Name(), ".1")]; !found {
			t.Errorf("docs/man/%s is the page of no command", entry.Name())
		}
	}
}

// manual is the page of a command and of all commands below it, as md2man reads it.
func manual(root, c *cobra.Command) string {
	name := strings.ReplaceAll(c.CommandPath(), " ", "-")
	var b strings.Builder
	fmt.Fprintf(&b, "%% %q \"1\" \"\" \"unicrux\" \"Unicrux\"\n\n# NAME\n\n%s - %s\n\n# SYNOPSIS\n\n", strings.ToUpper(name),
		name, strings.ToLower(c.Short[:1])+c.Short[1:])
	everyCommand(c, func(each *cobra.Command) {
		if c == root && each == root || c != root && !isNoun(each) {
			b.WriteString(escaped(useLine(each)) + "\n\n")
		}
	})
	page := helpPage(c)
	b.WriteString("# DESCRIPTION\n\n" + manualText(page.About))
	if c == root {
		for _, group := range page.Groups {
			b.WriteString(definitions(strings.ToUpper(group.Head), group.Rows))
		}
		for _, name := range []string{"exit-codes", "environment", "files"} {
			topic, _ := topic(root, name)
			for _, group := range topic.Groups {
				b.WriteString(definitions(strings.ToUpper(group.Head), group.Rows))
			}
		}
		return b.String()
	}
	everyCommand(c, func(each *cobra.Command) {
		page := helpPage(each)
		if each != c {
			fmt.Fprintf(&b, "# %s\n\n%s", strings.ToUpper(strings.TrimPrefix(each.CommandPath(), "unicrux ")),
				manualText(page.About))
		}
		if isNoun(each) {
			return
		}
		for _, group := range page.Groups {
			b.WriteString(definitions("", group.Rows))
		}
		if len(page.Examples) > 0 {
			b.WriteString("For example:\n\n" + indented(page.Examples) + "\n")
		}
	})
	b.WriteString("# SEE ALSO\n\n**unicrux(1)**: the options of every command, exit codes, files.\n")
	return b.String()
}

// manualText is [markdown] for a manual page, where code is indented.
func manualText(text string) string {
	var b strings.Builder
	for line := range strings.Lines(strings.TrimSuffix(text, "\n") + "\n") {
		if strings.HasPrefix(line, " ") {
			if !strings.HasSuffix(b.String(), "\n\n") && !strings.HasSuffix(b.String(), "    \n") {
				b.WriteString("\n")
			}
			b.WriteString("    " + strings.TrimSpace(line) + "\n    \n")
			continue
		}
		b.WriteString(escaped(line))
	}
	return b.String() + "\n"
}

// definitions lists names with what each is.
func definitions(head string, rows []render.HelpRow) string {
	if len(rows) == 0 {
		return ""
	}
	text := ""
	if head != "" {
		text = "# " + head + "\n\n"
	}
	for _, row := range rows {
		text += "**" + escaped(row.Name) + "**\n: " + escaped(row.About) + "\n\n"
	}
	return text
}

func indented(lines []string) string {
	text := ""
	for _, line := range lines {
		text += "    " + line + "\n"
	}
	return text
}

// escaped keeps what md2man would read as markup.
func escaped(text string) string {
	return strings.NewReplacer("*", `\*`, "_", `\_`, "[", `\[`, "]", `\]`, "<", `\<`, ">", `\>`, "`",
		"\\`").Replace(text)
}
