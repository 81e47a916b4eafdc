package cli

import (
	"net/mail"
	"strings"

	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/ready"
	"anchorage.example/unicrux/core/site"
)

// askAuthor asks who commits are by.
func askAuthor(a *app) (name, email string, err error) {
	a.progress("git does not know who your commits are by.")
	if name, err = a.askText("Your name in commits (Enter leaves it as it is):"); err != nil || name == "" {
		return "", "", err
	}
	if email, err = a.askText("Your e-mail address in commits:"); err != nil {
		return "", "", err
	}
	parsed, err := mail.ParseAddress(email)
	if err != nil || strings.ContainsAny(name, "<>\n") {
		return "", "", usage("a name without < and >, and an e-mail address, are needed: nothing was changed")
	}
	return name, parsed.Address, nil
}

// nameAuthor asks who commits in a folder are by, where git does not know and somebody is there. Whoever says nothing
// is left alone.
func nameAuthor(a *app, place site.Site, folder string) error {
	inside := *a.station
	inside.Folder, inside.Gone = folder, false
	if !a.mayAsk() || gitlink.AuthorProblem(a.ctx, &inside) == "" {
		return nil
	}
	name, email, err := askAuthor(a)
	if err != nil || name == "" {
		return err
	}
	batch := a.begin("Say who commits are by.")
	if err := ready.NameAuthor(a.ctx, place, batch, name, email); err != nil {
		return err
	}
	a.say(a.style().Sentences("Commits are by " + name + " <" + email + "> now."))
	return nil
}

// knownAuthor is askAuthor where the answer is needed.
func knownAuthor(a *app) (name, email string, err error) {
	name, email, err = askAuthor(a)
	if err == nil && name == "" {
		err = errStopped
	}
	return name, email, err
}
