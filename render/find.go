package render

import (
	"fmt"
	"path/filepath"
	"strings"

	"anchorage.example/unicrux/core/find"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/render/document"
)

// riskWords says of a key what is not as it should be.
var riskWords = map[find.Risk]string{
	find.Exposed:    "%s can be read by others, so ssh ignores it.",
	find.Tracked:    "%s is part of a repository: whoever has that has the key.",
	find.Mismatched: "%s has the public file of another key beside it, and ssh offers that one.",
	find.Unreadable: "%s is not read by ssh.",
	find.Weak:       "%s is weak by today's standards.",
	find.Forbidden:  "%s is of a type or size that the policy of this machine forbids.",
	find.Unlocked:   "%s has no passphrase: whoever copies the file can sign in as you.",
	find.InTheOpen:  "%s is inside a repository: one careless commit would publish it.",
	find.Twice:      "%s is there twice.",
	find.Astray:     "%s is in an unusual place, and no setting names it.",
	find.Idle:       "%s is in the ssh folder, and no setting points to it.",
	find.NoPublic:   "%s has no public key file beside it.",
	find.NoPrivate:  "%s is a public key without its private key.",
}

// A FindView is the result of a search with what the reader needs to know where it is.
type FindView struct {
	*find.Result
	Dirs  []string // as they are shown
	Tilde func(string) string
}

// Found writes every key that a search brought, with what is not as it should be, and how
// that is mended.
func Found(s Style, v FindView) string {
	text := s.Sentences(foundSummary(v))
	var quiet []string
	for _, f := range v.Keys {
		if len(f.Risks) == 0 {
			quiet = append(quiet, v.Tilde(f.Path))
			continue
		}
		text += "\n" + s.found(f, v.Tilde)
	}
	if len(quiet) > 0 {
		text += "\n" + s.Sentences("Nothing is wrong with these:")
		for _, path := range quiet {
			text += margin + path + "\n"
		}
	}
	if v.Cut {
		text += "\n" + s.Sentences(
			"Not everything was looked at: there are too many files, or folders are too deep. Name a folder to look further.",
		)
	}
	return text
}

func foundSummary(v FindView) string {
	pairs, halves, risky := 0, 0, 0
	for _, f := range v.Keys {
		if f.Pair == nil && f.Err == nil {
			halves++
		} else {
			pairs++
		}
		if len(f.Risks) > 0 {
			risky++
		}
	}
	where := fmt.Sprintf("in %s below %s", count(v.Files, "file", "files"), strings.Join(v.Dirs, ", "))
	if pairs+halves == 0 {
		return "No key is " + where + "."
	}
	found := count(pairs, "private key", "private keys")
	if halves > 0 {
		found += " and " + count(halves, "public key alone", "public keys alone")
	}
	care := "Nothing is wrong with them."
	if risky > 0 {
		care = fmt.Sprintf("%d of them %s care.", risky, map[bool]string{true: "needs", false: "need"}[risky == 1])
	}
	return capital(found) + " " + where + ". " + care
}

func (s Style) found(f find.Found, tilde func(string) string) string {
	head := KeyView{Pair: &sshkey.Pair{Public: f.Public}}
	kind := head.kind()
	if f.Public == nil && f.Err != nil {
		kind = "private key"
	}
	rows := []row{{label: "key", tone: bold, lines: []string{tilde(f.Path)}},
		{label: "type", tone: grey, lines: []string{strings.TrimSpace(kind + "  " + s.eye(head.Pair))}}}
	for _, mention := range f.Mentions {
		rows = append(rows, row{label: "used", tone: grey,
			text: mention.Block + " (" + tilde(mention.Origin.String()) + ")"})
	}
	for _, risk := range f.Risks {
		rows = append(rows, row{label: "careful", tone: ochre, text: foundWords(f, risk, tilde)})
	}
	words, commands := foundMend(f, tilde)
	for i, command := range commands {
		commands[i] = s.paint(bold, command)
	}
	rows = append(rows, row{label: "mend", tone: teal, text: words, lines: commands})
	return s.block(7, rows)
}

// foundWords says what a risk is about, without naming the file that heads the block.
func foundWords(f find.Found, risk find.Risk, tilde func(string) string) string {
	switch risk {
	case find.Tracked:
		return "It is part of the repository " + tilde(f.Repository) + ": whoever has that has the key."
	case find.InTheOpen:
		return "It is inside the repository " + tilde(f.Repository) + ": one careless commit would publish it."
	case find.Unreadable:
		return "ssh does not read it: " + f.Err.Error() + "."
	case find.Twice:
		return "It is the same key as " + tilde(f.Twin) + "."
	}
	return capital(strings.TrimPrefix(fmt.Sprintf(riskWords[risk], "it"), " "))
}

// foundMend is what helps most for the most urgent risk: in words, and as commands.
func foundMend(f find.Found, tilde func(string) string) (words string, commands []string) {
	path := tilde(f.Path)
	line := func(words ...string) string { return Command(words) }
	settle := line("unicrux", "host", "set", "HOST", "key="+filepath.Base(f.Path))
	switch f.Risks[0] {
	case find.Exposed:
		return "Make it readable by you alone.", []string{line("chmod", "600", path)}
	case find.Tracked:
		return "Retire it, because copies may be anywhere; then remove it from the repository.",
			[]string{line("unicrux", "key", "retire", path), line("git", "-C", tilde(f.Repository),
				"rm", "--cached", within(f))}
	case find.Mismatched, find.NoPublic:
		return "Write the matching public key beside it.",
			[]string{line("unicrux", "key", "show", path, "--line") + " > " + line(path+".pub")}
	case find.Unreadable:
		return "Copy it once more from where it came, byte for byte.", nil
	case find.Weak:
		return "Make a better one, registered wherever this one is.", []string{line("unicrux", "key", "renew", path)}
	case find.Unlocked:
		return "Give it a passphrase, which is asked once a day at most.",
			[]string{line("unicrux", "key", "passphrase", path)}
	case find.InTheOpen, find.Astray:
		return "Move it to the ssh folder, and let settings point to it.",
			[]string{line("mv", "-n", path, "~/.ssh/"), settle}
	case find.Twice:
		return "Keep one of the two: set this one aside, and delete it once nothing misses it.",
			[]string{line("mv", "-n", path, path+".aside")}
	case find.Idle:
		return "Let settings point to it, or retire it.", []string{settle, line("unicrux", "key", "retire", path)}
	}
	return "Nothing can be signed with it alone. Delete it if nobody needs it.", []string{line("rm", path)}
}

func within(f find.Found) string {
	rest, err := filepath.Rel(f.Repository, f.Path)
	if err != nil {
		return f.Path
	}
	return rest
}

// FoundDocument makes the document of what key find found.
func FoundDocument(r *find.Result) any {
	return document.Found{Schema: document.Schema("found"), Files: r.Files, Complete: !r.Cut,
		Keys: document.Map(r.Keys, foundKey)}
}

func foundKey(f find.Found) document.FoundKey {
	d := document.FoundKey{Path: document.Path(f.Path), Private: f.Pair != nil || f.Err != nil,
		InRepository: document.Text(document.Path(f.Repository)), SameAs: document.Text(document.Path(f.Twin)),
		Settings: mentionTexts(f.Mentions),
		Risks:    document.Map(f.Risks, func(risk find.Risk) string { return string(risk) })}
	if f.Public != nil {
		d.Type, d.Fingerprint = document.Text(sshkey.Kind(f.Public)), document.Text(sshkey.Fingerprint(f.Public))
	}
	if f.Pair != nil {
		d.HasPassphrase = &f.Pair.Locked
	}
	return d
}
