package cli

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"anchorage.example/unicrux/core/agent"
	"anchorage.example/unicrux/core/chest"
	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/expiry"
	"anchorage.example/unicrux/core/site"
	"anchorage.example/unicrux/core/tokens"
	"anchorage.example/unicrux/core/trial"
	"anchorage.example/unicrux/core/workstation"
	"anchorage.example/unicrux/render"
)

func tokenCommand(a *app) *cobra.Command {
	command := &cobra.Command{
		Use:   "token",
		Short: "Tokens for HTTPS: new, sign-in, add, list, show, test, renew, revoke",
	}
	command.AddCommand(tokenNew(a), tokenSignIn(a), tokenAdd(a), tokenList(a), tokenShow(a), tokenTest(a),
		tokenRenew(a), tokenRevoke(a))
	return command
}

// tokenOptions are the options of commands about tokens.
type tokenOptions struct {
	secretOptions
	purposes []string
	until    string
	label    string
	from     string
	account  string
	url      string
	browser  bool
}

func (o *tokenOptions) addPurposes(command *cobra.Command) {
	command.Flags().Var(&wordList{to: &o.purposes, is: "USES", choices: describe.Purposes()}, "for",
		"what it is for: "+join(describe.Purposes(), ", ", " or "))
}

// tokenPlace finds the host.
func tokenPlace(a *app, o *tokenOptions, name string) (place site.Site, host *describe.Description, err error) {
	if place, err = a.place(); err != nil {
		return place, nil, err
	}
	host, err = place.Registry.Find(name)
	return place, host, err
}

func tokenList(a *app) *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "The tokens in the chest: for what, whose, until when",
		RunE: func(*cobra.Command, []string) error {
			list, err := chest.Of(a.station).List()
			if errors.Is(err, chest.ErrDamaged) {
				a.progress("A file of the chest is damaged. The others are listed; unicrux chest show says more.")
			} else if err != nil {
				return err
			}
			return a.show(render.Tokens(a.style(), list, a.station.Now()), render.TokensDocument(list))
		},
	}
}

func tokenShow(a *app) *cobra.Command {
	var o tokenOptions
	var reveal, copied bool
	command := &cobra.Command{
		Use: "show TOKEN", Short: "What is known about a token; the token itself only when asked for",
		RunE: func(_ *cobra.Command, args []string) error {
			place, err := a.place()
			if err != nil {
				return err
			}
			e, err := tokens.Find(place, args[0])
			if err != nil {
				return err
			}
			if !reveal && !copied {
				return a.show(render.Token(a.style(), e, a.station.Now()), render.TokenDocument(e, 0))
			}
			return revealToken(a, place, e, o.chest, reveal)
		},
	}
	command.Flags().BoolVar(&reveal, "reveal", false, "print the token and nothing else")
	command.Flags().BoolVar(&copied, "copy", false, "put it on the clipboard, through the terminal")
	chestOption(command, &o.chest)
	return command
}

func revealToken(a *app, place site.Site, e chest.Entry, source string, reveal bool) error {
	s, err := tokenSecret(a, place, e, source)
	if err != nil {
		return err
	}
	text := string(s.Token.Reveal())
	if reveal {
		document := struct {
			Schema string `json:"schema"`
			Name   string `json:"name"`
			Token  string `json:"token"`
		}{"unicrux.secret/1", e.Name, text}
		return a.show(text+"\n", document)
	}
	return copySecret(a, "The token "+e.Name, text)
}

func tokenTest(a *app) *cobra.Command {
	var o tokenOptions
	command := &cobra.Command{
		Use: "test TOKEN|HOST", Short: "Try a token, and ask the host about it: is it good, whose, for what, until when?",
		RunE: func(_ *cobra.Command, args []string) error { return testToken(a, &o, args[0]) },
	}
	command.Flags().Var(named(&o.url, "URL"), "url",
		"also make git's own requests for this repository (default: a remote of this folder at that host)")
	chestOption(command, &o.chest)
	return command
}

func testToken(a *app, o *tokenOptions, name string) error {
	place, err := a.place()
	if err != nil {
		return err
	}
	e, err := tokens.Find(place, name)
	if err != nil {
		return err
	}
	host, err := tokens.HostOf(place, e)
	if err != nil {
		return err
	}
	c := tokens.Chest(place)
	s, err := tokenSecret(a, place, e, o.chest)
	if err != nil {
		return err
	}
	moved, err := movedTo(a, host, e)
	if err != nil {
		return err
	}
	if moved {
		e.Places = host.Places()
	}
	proven, err := tokens.Prove(a.ctx, place, host, s.Bound(e))
	if err != nil {
		return err
	}
	tried, err := trial.Token(a.ctx, place, e, s.Bound(e), o.url)
	if err != nil {
		return err
	}
	if moved { // only now: it works there
		if e, err = tokens.Rebind(place, host, e, s); err != nil {
			return err
		}
	}
	if tried != nil && tried.Reads && proven.How == "" {
		proven.How = "git's own requests"
	}
	if proven.How != "" {
		now := a.station.Now().UTC().Truncate(time.Second)
		err := c.Note(e.Name, func(e *chest.Entry) {
			if e.Proved = now; !proven.Until.IsZero() {
				e.Until = proven.Until.UTC()
			}
			if len(proven.Scopes) > 0 {
				e.Scopes = proven.Scopes
			}
		})
		if err != nil {
			return err
		}
		if e, err = c.Entry(e.Name); err != nil {
			return err
		}
	}
	lacks := missing(host, e)
	if err := a.show(render.TestedToken(a.style(), e, proven, tried, lacks, a.station.Now()),
		render.TestedTokenDocument(e, proven, tried, lacks)); err != nil {
		return err
	}
	if len(lacks) > 0 || tried != nil && !tried.Reads {
		return &told{exitCrux}
	}
	return nil
}

// movedTo asks whether a token may go to places that the description of its host names by now, and that
// it was not kept for.
func movedTo(a *app, host *describe.Description, e chest.Entry) (moved bool, err error) {
	if len(tokens.NewPlaces(e, host)) == 0 {
		return false, nil
	}
	a.tell(render.OtherPlaces(a.errStyle(), e, host.Places()))
	err = a.confirm("Send the token " + e.Name + " there, and store it for that place if it works?")
	return err == nil, err
}

// missing lists the purposes that a token was made for and does not serve.
func missing(host *describe.Description, e chest.Entry) []string {
	if len(e.Scopes) == 0 || len(host.Purposes) == 0 {
		return nil
	}
	serves := tokens.PurposesOf(host, e.Scopes)
	return slices.DeleteFunc(slices.Clone(e.Purposes), func(p string) bool { return slices.Contains(serves, p) })
}

func tokenRenew(a *app) *cobra.Command {
	var o tokenOptions
	command := &cobra.Command{
		Use: "renew TOKEN", Short: "Another token for one: proved before the old one is revoked",
		RunE: func(_ *cobra.Command, args []string) error {
			return onToken(a, &o, args[0], "Renew the token %s.",
				func(place site.Site, batch *workstation.Batch, e chest.Entry) (string, any, error) {
					until := time.Time{}
					if o.until != "" {
						var err error
						if until, err = expiry.End(o.until, a.station.Now()); err != nil {
							return "", nil, err
						}
					}
					fresh, err := tokens.Renew(a.ctx, place, batch, e, until)
					return render.RenewedToken(a.style(), fresh, a.station.Now()),
						render.TokenDocument(fresh, number(batch)), err
				})
		},
	}
	command.Flags().Var(named(&o.until, "WHEN"), "until",
		"when the new one should expire: a day, or 90d, 12w, 1y from now (default: 90d, or the longest that the host allows)")
	chestOption(command, &o.chest)
	return command
}

func tokenRevoke(a *app) *cobra.Command {
	var o tokenOptions
	command := &cobra.Command{
		Use: "revoke TOKEN", Short: "Make the host and the chest forget a token",
		RunE: func(_ *cobra.Command, args []string) error {
			return onToken(a, &o, args[0], "Revoke the token %s.",
				func(place site.Site, batch *workstation.Batch, e chest.Entry) (string, any, error) {
					told, err := tokens.Revoke(a.ctx, place, batch, e)
					words := "The token " + e.Name + " no longer works: " + e.Host +
						" and the chest have forgotten it."
					if !told {
						words = "The chest has forgotten the token " + e.Name +
							". Its host could not be reached: revoke it on its web page."
					}
					return a.style().Sentences(words), render.DoneDocument(words, number(batch), time.Time{}), err
				})
		},
	}
	chestOption(command, &o.chest)
	passwordOptions(a, command)
	return command
}

// tokenSecret gets a token out of the chest, which is opened for it.
func tokenSecret(a *app, place site.Site, e chest.Entry, source string) (chest.Secret, error) {
	c := tokens.Chest(place)
	if err := openChest(a, c, source, agent.WorkingDay); err != nil {
		return chest.Secret{}, err
	}
	return c.Get(e)
}

// onToken does something about a token, with the chest open.
func onToken(a *app, o *tokenOptions, name, words string,
	do func(site.Site, *workstation.Batch, chest.Entry) (string, any, error)) error {
	place, err := a.place()
	if err != nil {
		return err
	}
	e, err := tokens.Find(place, name)
	if err != nil {
		return err
	}
	if err := openChest(a, tokens.Chest(place), o.chest, agent.WorkingDay); err != nil {
		return err
	}
	batch := a.begin(fmt.Sprintf(words, e.Name), e.Host)
	text, document, err := do(place, batch, e)
	if err != nil {
		return err
	}
	return a.showChange(batch, text, document)
}
