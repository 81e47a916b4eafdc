package cli

import (
	"bufio"
	"errors"
	"fmt"
	"os"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"anchorage.example/unicrux/core/card"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/site"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/tokens"
	"anchorage.example/unicrux/render"
)

// clipboardTime is how long a secret stays on the clipboard at most.
const clipboardTime = 30 * time.Second

type cardOptions struct {
	purpose          finding.Purpose
	form             sshkey.Form
	field, by, chest string
	relock           relockOptions
}

func cardCommand(a *app) *cobra.Command {
	var o cardOptions
	command := &cobra.Command{
		Use:   "card HOST",
		Short: "What to fill in into any other program, field by field",
		Long: `Lists field by field what an editor, a desktop client or a build tool asks for: server, user,
which field takes the token, the type of sign-in, the key and its format. A secret is not
shown; --copy puts one field on the clipboard.`,
		RunE: func(_ *cobra.Command, args []string) error {
			if err := o.relock.validate(a); err != nil {
				return err
			}
			return runCard(a, o, args[0])
		},
	}
	flags := command.Flags()
	o.purpose = finding.Push
	flags.Var(oneOf(&o.purpose, finding.Clone, finding.Push), "for", "what the other program does")
	flags.Var(oneOf(&o.by, "ssh", "https"), "by", "one of the two alone (default: both)")
	flags.Var(named(&o.field, "FIELD"), "copy",
		"put this field on the clipboard, through the terminal; a secret until Enter")
	flags.Var(oneOf(&o.form, sshkey.OpenSSH, sshkey.PKCS8, sshkey.PKCS1, sshkey.SEC1), "key-format",
		"also write the key in this form, for a program that reads no other")
	o.relock.addFlags(command, "with --key-format: write it without a passphrase")
	chestOption(command, &o.chest)
	return command
}

func runCard(a *app, o cardOptions, name string) error {
	place, err := a.place()
	if err != nil {
		return err
	}
	host, err := place.Registry.Find(name)
	if err != nil {
		return err
	}
	filled, err := card.For(a.ctx, place, host, string(o.purpose))
	if err != nil {
		return err
	}
	var sides []card.Side
	for _, side := range filled.Sides {
		if o.by == "" || side.Transport == o.by {
			sides = append(sides, side)
		}
	}
	filled.Sides = sides
	if o.form != "" {
		if err := cardForm(a, &o, filled); err != nil {
			return err
		}
	}
	if o.field != "" {
		return copyField(a, o, place, filled)
	}
	return a.show(render.Card(a.style(), filled, string(o.purpose), a.station.Tilde),
		render.CardDocument(filled, string(o.purpose)))
}

// cardForm makes the card name the key in another form, which is written beside the key unless
// it is there.
func cardForm(a *app, o *cardOptions, filled *card.Card) error {
	for _, side := range filled.Sides {
		at := slices.IndexFunc(side.Fields, func(f card.Field) bool { return f.Name == "key" })
		is := slices.IndexFunc(side.Fields, func(f card.Field) bool { return f.Name == "format" })
		if at < 0 || is < 0 || side.Fields[is].Value == string(o.form) {
			continue
		}
		out := side.Fields[at].Value + "." + string(o.form)
		if _, err := os.Stat(out); err != nil {
			if _, err := writeForm(a, &o.relock, side.Fields[at].Value, o.form, out); err != nil {
				return err
			}
		}
		side.Fields[at].Value, side.Fields[is] = out, card.Field{Name: "format", Value: string(o.form)}
	}
	return nil
}

// copyField puts one field on the clipboard. Where both transports have it, the first that is
// ready counts.
func copyField(a *app, o cardOptions, place site.Site, filled *card.Card) error {
	var found *card.Field
	isReady := false
	for _, side := range filled.Sides {
		for i, field := range side.Fields {
			if field.Name == o.field && (found == nil || side.Ready && !isReady) {
				found, isReady = &side.Fields[i], side.Ready
			}
		}
	}
	switch {
	case found == nil:
		return usage("the card of %s has no field %q%s", filled.Host, o.field, nearestOf(o.field, card.FieldNames()))
	case found.Secret == "":
		if err := toClipboard(a, found.Value); err != nil {
			return err
		}
		return sayDoneAs(a, "The "+o.field+" for "+filled.Host+" is on the clipboard, if this terminal allows it.")
	}
	e, err := tokens.Find(place, found.Secret)
	if err != nil {
		return err
	}
	s, err := tokenSecret(a, place, e, o.chest)
	if err != nil {
		return err
	}
	return copySecret(a, "The token "+e.Name, string(s.Token.Reveal()))
}

// toClipboard asks the terminal to put a text on the clipboard: the terminal itself, and no output of
// ours, which may lead into a file.
func toClipboard(a *app, text string) error {
	terminal, err := os.OpenFile(terminalName, os.O_WRONLY, 0)
	if err != nil {
		return &problem{message: "there is no terminal, and Unicrux copies through the terminal",
			advice: "Run it in a terminal.", exit: exitAsk}
	}
	_, err = terminal.WriteString(render.Clipboard(text))
	return errors.Join(err, terminal.Close())
}

// copySecret puts a secret on the clipboard through the terminal and clears that when the person presses Enter,
// and after clipboardTime whatever happens.
func copySecret(a *app, what, text string) error {
	if err := toClipboard(a, text); err != nil {
		return err
	}
	defer toClipboard(a, "") // it went there a moment ago
	if err := sayDoneAs(a, what+" is on the clipboard, if this terminal allows it. Enter removes it."); err != nil {
		return err
	}
	enter, end := a.untilEnter(), time.Now().Add(clipboardTime)
	ticker := time.NewTicker(meterPause)
	defer ticker.Stop()
	m := a.meter()
	defer m.end()
	for {
		select {
		case <-a.ctx.Done():
			return nil
		case <-enter:
			return nil
		case now := <-ticker.C:
			if now.After(end) {
				return nil
			}
			m.tell(func() string { return fmt.Sprintf("removed in %d s", int(end.Sub(now).Seconds())+1) })
		}
	}
}

// untilEnter is closed when the person presses Enter on the terminal.
func (p *prompter) untilEnter() <-chan struct{} {
	pressed := make(chan struct{})
	go func() { // it ends with the program
		terminal, err := os.Open(terminalName)
		if err != nil {
			return
		}
		defer terminal.Close() // it was only read
		if _, err := bufio.NewReader(terminal).ReadString('\n'); err == nil {
			close(pressed)
		}
	}()
	return pressed
}
