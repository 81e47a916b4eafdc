package remotes

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"slices"

	"unicrux/core/address"
	"unicrux/core/gitlink"
	"unicrux/core/secret"
	"unicrux/core/workstation"
)

// Reasons for which a secret is not taken out of a URL, for errors.Is.
var (
	ErrNoSecret = errors.New("no secret stands in the URLs")
	ErrNotKept  = errors.New("no credential helper that git is told to use keeps it, so it stays where it is")
	ErrOnlyName = errors.New("the secret stands in the place of the login name, and only the host's owner knows how else it may be given")
)

// A Cleaned is a URL that a secret was taken out of.
type Cleaned struct{ Remote, Host, URL string }

// Clean takes the secrets out of the URLs of a remote, or of all when name is empty, and gives
// them to the credential helpers that git is told to use. Nothing is taken out before git, asked
// back, has given the same secret. Neither the record nor any argument holds it.
func Clean(ctx context.Context, batch *workstation.Batch, station *workstation.Station, name string) ([]Cleaned, error) {
	config, err := gitlink.ReadConfig(ctx, station)
	if err != nil {
		return nil, err
	}
	if !config.InRepository() {
		return nil, ErrNoRepository
	}
	names := config.Remotes()
	if name != "" {
		if !slices.Contains(names, name) {
			return nil, fmt.Errorf("%s: %w", name, ErrNoRemote)
		}
		names = []string{name}
	}
	var assignments []gitlink.Assignment
	var cleaned []Cleaned
	for _, remote := range names {
		for _, variable := range []string{"url", "pushurl"} {
			a := gitlink.Assignment{Key: "remote." + remote + "." + variable}
			for _, entry := range config.All(a.Key) {
				text := entry.Value
				if _, had := address.HideSecret(text); had {
					if text, err = move(ctx, station, config, text, batch.Dry); err != nil {
						return nil, fmt.Errorf("%s: %w", remote, err)
					}
					at, _ := url.Parse(text) // it was read a moment ago
					cleaned = append(cleaned, Cleaned{remote, at.Host, text})
				}
				a.Values = append(a.Values, text)
			}
			assignments = append(assignments, a)
		}
	}
	if len(cleaned) == 0 {
		return nil, ErrNoSecret
	}
	return cleaned, rewriteConfig(ctx, batch, station, "Take the secrets out of the URLs of remotes.", assignments)
}

// move gives the secret of a URL to git's helpers, makes sure that they have it, and returns
// the URL without it.
func move(ctx context.Context, station *workstation.Station, config *gitlink.Config, text string, dry bool) (string, error) {
	at, err := url.Parse(text)
	if err != nil { // its words would hold the secret
		return "", address.ErrCharacter
	}
	password, set := at.User.Password()
	if !set {
		return "", ErrOnlyName
	}
	c := gitlink.Credential{Protocol: at.Scheme, Host: at.Host, User: at.User.Username()}
	for _, s := range config.For("credential", text) {
		if s.Name == "credential.usehttppath" && s.Entry.Value == "true" {
			c.Path = at.Path
		}
	}
	at.User = url.User(at.User.Username())
	if c.User == "" {
		at.User = nil
	}
	if dry {
		return at.String(), nil
	}
	kept := c
	kept.Password = secret.New([]byte(password))
	if err := gitlink.Approve(ctx, station, kept); err != nil {
		return "", err
	}
	answer, err := gitlink.Fill(ctx, station, c)
	if err != nil || !bytes.Equal(answer.Reveal(), kept.Password.Reveal()) {
		return "", ErrNotKept
	}
	return at.String(), nil
}

// rewriteConfig changes the repository's configuration without recording what stood there.
func rewriteConfig(ctx context.Context, batch *workstation.Batch, station *workstation.Station, words string, assignments []gitlink.Assignment) error {
	path, err := gitlink.LocalConfigFile(ctx, station)
	if err != nil {
		return err
	}
	old, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	text, err := gitlink.Assign(ctx, station, old, assignments)
	if err != nil {
		return err
	}
	return batch.Rewrite(path, words, text)
}
