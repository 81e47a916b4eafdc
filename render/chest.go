package render

import (
	"fmt"
	"strings"
	"time"

	"anchorage.example/unicrux/core/adopt"
	"anchorage.example/unicrux/core/chest"
	"anchorage.example/unicrux/core/plainsecrets"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/render/document"
)

// Moved says how many secrets are where now.
func Moved(s Style, n int, to chest.Kind) string {
	where := map[chest.Kind]string{chest.Sealed: "sealed in files of ours",
		chest.Desktop: "with the desktop's secret service", chest.Memory: "in the memory of the holder alone"}[to]
	switch n {
	case 0:
		return "There was nothing to move. New secrets go there: " + where + "."
	case 1:
		return "One secret was moved: it is " + where + " now, as new ones will be."
	}
	return fmt.Sprintf("%d secrets were moved: they are %s now, as new ones will be.", n, where)
}

// A ChestView is the chest.
type ChestView struct {
	Folder  string
	Tilde   func(string) string // how paths are shown
	Kind    chest.Kind
	Entries []chest.Entry
	Locked  bool // it has a passphrase
	Open    bool
	Until   time.Time
	Damaged bool
	Now     time.Time
}

// Chest tells where secrets are.
func Chest(s Style, v ChestView) string {
	kinds := map[chest.Kind]int{}
	for _, e := range v.Entries {
		kinds[e.Kind]++
	}
	var held []string
	for _, kind := range chest.Kinds() {
		if kinds[kind] > 0 {
			held = append(held, fmt.Sprintf("%d %s", kinds[kind], kind))
		}
	}
	open := "closed"
	switch {
	case v.Open:
		open = "open until " + v.Until.Local().Format("15:04")
	case !v.Locked:
		open = "has no passphrase: nothing in it is sealed by one"
	}
	rows := []row{
		{label: "secrets", tone: bold, lines: []string{orNone(strings.Join(held, ", "))}},
		{label: "new ones", tone: grey, lines: []string{string(v.Kind)}},
		{label: "chest", tone: grey, text: open},
		{label: "folder", tone: grey, lines: []string{v.Tilde(v.Folder)}},
	}
	text := s.block(8, rows)
	if v.Damaged {
		text += "\n" + s.Sentences(
			"A file of the chest is damaged. The others are whole: the secret in it has to be got anew. To move it out of the way:",
		) +
			CommandLine(
				s,
				"unicrux",
				"chest",
				"show",
				"--set-aside",
			)
	}
	return text
}

func orNone(text string) string {
	if text == "" {
		return "none"
	}
	return text
}

// ChestDocument makes the document of the chest.
func ChestDocument(v ChestView) any {
	d := document.Chest{Schema: document.Schema("chest"), Type: string(v.Kind), SecretCount: len(v.Entries),
		HasPassphrase: v.Locked, Folder: document.Path(v.Folder), Damaged: v.Damaged}
	if v.Open {
		d.OpenUntil = document.Time(v.Until)
	}
	return d
}

// Adopted tells which secrets lay about, masked, and what became of each.
func Adopted(s Style, list []adopt.Adopted, dry bool, tilde func(string) string) string {
	if len(list) == 0 {
		return s.Sentences("No secret for a code host is in a plain file, as far as Unicrux looked.")
	}
	var rows [][]string
	moved, told := 0, 0
	stays := ""
	for _, d := range list {
		state := "moved to the chest, as " + d.Name
		switch {
		case d.Err != nil:
			state = "not moved: " + untrusted.Clean(d.Err.Error())
			if d.Stray.Sort == plainsecrets.CredentialFile {
				stays = untrusted.Clean(d.Stray.At)
			}
		case !d.Stray.Movable():
			state = "stays: revoke it"
			told++
		case dry:
			state = "would be moved"
		default:
			moved++
		}
		where := tilde(d.Stray.File)
		if d.Stray.Line > 0 {
			where += fmt.Sprintf(":%d", d.Stray.Line)
		}
		rows = append(rows, []string{orDash(untrusted.Clean(d.Stray.At)),
			untrusted.Clean(d.Stray.User) + ":" + secret.Mask, string(d.Stray.Sort), where, state})
	}
	text := s.table([]string{"host", "secret", "is in a", "at", ""}, rows) + "\n"
	if moved > 0 {
		text += s.Sentences(capital(count(moved, "secret", "secrets")) + " moved. " + gitGets(list, moved))
	}
	if stays != "" {
		text += s.Sentences("While a secret for " + stays +
			" is in a credential file, git also writes there what it gets from the chest. Revoke or remove that secret, then run this again.")
	}
	if told > 0 {
		text += s.Sentences(
			"Others may know what is in an environment file or a shell history: revoke it at its host, and remove it there.",
		)
	}
	return text
}

// gitGets says how it is known that git gets what was moved.
func gitGets(list []adopt.Adopted, moved int) string {
	alike := 0
	for _, d := range list {
		if d.Alike && d.Err == nil {
			alike++
		}
	}
	if alike == 0 {
		return "Unicrux asked git for each, and git gets it from the chest."
	}
	return fmt.Sprintf(
		"Unicrux asked git for %d of them, and git gets each from the chest. For the other %d, git asks the same helpers in the same order.",
		moved-alike,
		alike,
	)
}

// AdoptedDocument makes the document of secrets in plain files, and of what became of each.
func AdoptedDocument(list []adopt.Adopted, change int) any {
	return document.Adoption{Schema: document.Schema("adoption"), Secrets: document.Map(list, adoptedDoc),
		Change: document.Number(change)}
}

func adoptedDoc(a adopt.Adopted) document.PlainSecret {
	d := plainDoc(a.Stray)
	d.Token = document.Text(a.Name)
	if a.Err != nil {
		d.Error = document.Text(untrusted.Clean(a.Err.Error()))
	}
	return d
}

func plainDoc(s plainsecrets.Stray) document.PlainSecret {
	return document.PlainSecret{URLHost: document.Text(s.At), User: document.Text(s.User), Type: string(s.Sort),
		Path: document.Path(s.File), Line: s.Line, Movable: s.Movable()}
}
