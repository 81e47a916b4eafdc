package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"golang.org/x/term"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/keys"
	"anchorage.example/unicrux/core/origin"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/core/site"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/sshway"
	"anchorage.example/unicrux/core/untrusted"
)

// A prompter asks the person, on a console.
type prompter struct {
	*console
	ctx     context.Context
	noInput bool
	asked   *term.Terminal // where questions were asked; nil until then
}

// mayAsk tells whether there is somebody to ask: a terminal, and no word against it.
func (p *prompter) mayAsk() bool {
	return !p.noInput && p.In != nil && term.IsTerminal(int(p.In.Fd()))
}

// askSecret asks on the terminal without showing what is typed. Echo is off before the
// question appears, so that nothing typed early is shown either.
func (p *prompter) askSecret(question string) (secret.Text, error) {
	text, err := p.ask(func() (string, error) { return p.asked.ReadPassword(question + " ") })
	return secret.New([]byte(text)), err
}

// askText asks for something that may be seen.
func (p *prompter) askText(question string) (string, error) {
	text, err := p.ask(func() (string, error) {
		p.asked.SetPrompt(question + " ")
		return p.asked.ReadLine()
	})
	return strings.TrimSpace(text), err
}

// confirm asks whether to do something. Whoever cannot be asked must have said so.
func (a *app) confirm(question string) error {
	switch {
	case a.yes || a.dry:
		return nil
	case !a.mayAsk():
		return &problem{message: "a confirmation is needed, and there is no terminal to ask on",
			advice: "Give --yes if you have compared what is shown above.", exit: exitAsk}
	}
	answer, err := a.ask(func() (string, error) {
		a.asked.SetPrompt(question + " yes or [no] (--yes): ")
		return a.asked.ReadLine()
	})
	if answer = strings.ToLower(strings.TrimSpace(answer)); err == nil && answer != "yes" && answer != "y" {
		return errStopped
	}
	return err
}

// choose asks which of several things at a host is meant, and keeps the answer for the next time.
func (a *app) choose(d *describe.Description, lookup string, choices []hostapi.Choice) (int, error) {
	var list strings.Builder
	fmt.Fprintf(&list, "%s has several of %s:\n", d.Name, lookup)
	for i, choice := range choices {
		fmt.Fprintf(&list, "  %d  %s\n", i+1, untrusted.Clean(choice.Label))
	}
	a.tell(list.String())
	answer, err := a.askText(
		fmt.Sprintf("Which one, 1 to %d (unicrux host set %s chosen.%s=NAME):", len(choices), d.Name,
			lookup),
	)
	if err != nil {
		return 0, err
	}
	i := slices.IndexFunc(choices, func(c hostapi.Choice) bool { return c.Label == answer }) + 1
	if i == 0 {
		i, _ = strconv.Atoi(answer) // anything else is no number of the list
	}
	if i < 1 || i > len(choices) {
		return 0, usage("%q is none of the %d: nothing was chosen", answer, len(choices))
	}
	batch := a.begin("Choose the "+lookup+" at "+d.Name+".", d.Name)
	return i - 1, hosts.SetChosen(batch, a.station, d, lookup, choices[i-1].Value)
}

// ask lets read ask on the terminal, which it finds in a.asked.
func (p *prompter) ask(read func() (string, error)) (string, error) {
	defer p.wait.hold()()
	fd := int(p.In.Fd())
	restore, err := makeRaw(fd)
	if err != nil {
		return "", err
	}
	defer restore()
	if p.asked == nil { // one for all questions: it may have read ahead
		p.asked = term.NewTerminal(struct {
			io.Reader
			io.Writer
		}{p.In, p.Err}, "")
	}
	if width, height, err := term.GetSize(fd); err == nil && width > 0 {
		_ = p.asked.SetSize(width, height) // else a long answer is wrapped where 80 columns end
	}
	type answer struct {
		text string
		err  error
	}
	answered := make(chan answer, 1)
	go func() {
		text, err := read()
		answered <- answer{text, err}
	}()
	stopped := func() (string, error) {
		_, _ = io.WriteString(p.Err, "\r\n") // the question's own line ends here
		return "", context.Canceled
	}
	select {
	case got := <-answered:
		if got.err == io.EOF { // Ctrl-C and Ctrl-D, which reach nobody else now
			return stopped()
		}
		return got.text, got.err
	case <-p.ctx.Done():
		return stopped()
	}
}

// readSecret reads a secret from SRC: "-" for standard input, or a file.
func (p *prompter) readSecret(source string) (secret.Text, error) {
	if source == "-" {
		return secret.Read(p.In)
	}
	f, err := os.Open(source)
	if err != nil {
		return secret.Text{}, err
	}
	defer f.Close() // opened for reading
	text, err := secret.Read(f)
	if err != nil {
		return secret.Text{}, fmt.Errorf("%s: %w", source, err)
	}
	return text, nil
}

// newPassphrase gets the passphrase for a new key: from a source, or asked twice.
func (p *prompter) newPassphrase(source string, none bool) (secret.Text, error) {
	if none {
		return secret.Text{}, nil
	}
	return p.choosePassphrase(source, "Passphrase for the new key (--passphrase-from):", "the key",
		"--passphrase-from FILE (or - for standard input), or --no-passphrase",
		"; --no-passphrase makes a key without one")
}

// newPassphraseFor gets a new passphrase that there must be: from a source, or asked twice.
func (p *prompter) newPassphraseFor(what, option, source string) (secret.Text, error) {
	return p.choosePassphrase(source, "New passphrase for "+what+" ("+option+"):", what,
		option+" FILE, or - for standard input", "")
}

func (p *prompter) choosePassphrase(source, question, what, options, instead string) (text secret.Text, err error) {
	from := ""
	switch {
	case source != "":
		from = " from " + source
		text, err = p.readSecret(source)
	case !p.mayAsk():
		return text, &problem{message: "a passphrase for " + what + " is needed, and there is no terminal to ask on",
			advice: "Give " + options + ".", exit: exitAsk}
	default:
		text, err = p.askTwice(question)
	}
	if err == nil && text.Empty() {
		err = usage("the passphrase%s is empty%s", from, instead)
	}
	if err == nil {
		p.warnShort(text)
	}
	return text, err
}

// leastPassphrase is how long a passphrase is that is not found by trying.
const leastPassphrase = 8

// warnShort says of a short passphrase that it is one. It is taken all the same: whose it is knows why.
func (p *prompter) warnShort(text secret.Text) {
	if !text.Empty() && utf8.RuneCount(text.Reveal()) < leastPassphrase {
		p.progress(
			fmt.Sprintf(
				"This passphrase has fewer than %d characters: anybody with the file can guess it. Use a longer one, such as four random words.",
				leastPassphrase,
			),
		)
	}
}

// askTwice asks for something new until it is typed twice alike.
func (p *prompter) askTwice(question string) (secret.Text, error) {
	for range 3 {
		first, err := p.askSecret(question)
		if err != nil {
			return first, err
		}
		if first.Empty() {
			p.progress("It is empty. Once more:")
			continue
		}
		again, err := p.askSecret("The same once more:")
		if err != nil || string(again.Reveal()) == string(first.Reveal()) {
			return first, err
		}
		p.progress("The two differ. From the beginning:")
	}
	return secret.Text{}, &problem{message: "no passphrase was typed twice alike, so nothing was changed",
		advice: "Run the same command again.", exit: exitCrux}
}

// asker answers for the passphrase of a key that is there: from a source once given, else
// from the desktop where that keeps it, else from the terminal.
func (a *app) asker(source string) sshway.Asker {
	return func(pair *sshkey.Pair) (secret.Text, error) {
		if source != "" {
			return a.readSecret(source)
		}
		if text, kept := keys.KeptPassphrase(site.Site{Station: a.station}, pair); kept {
			return text, nil
		}
		if !a.mayAsk() {
			return secret.Text{}, sshway.ErrNobody
		}
		text, err := a.askSecret("Passphrase of " + pair.Name() + " (--passphrase-from):")
		if err == nil && text.Empty() {
			err = sshway.ErrNobody
		}
		return text, err
	}
}

// token gets a token for a host's interface: from a source, from the chest where it has one for the
// purpose, or asked. An empty purpose is one that no token in the chest is for.
func tokenFor(a *app, o *secretOptions, host *describe.Description, purpose string) (origin.Bound, error) {
	source, err := o.tokenSource(host.Name)
	if err != nil {
		return origin.Bound{}, err
	}
	if source == "" {
		if token, found, err := keptToken(a, o, host, purpose); found || err != nil {
			return token, err
		}
	}
	text, err := tokenFrom(a, source, host,
		"Token for the API of "+host.Name+rights(host, purpose)+", shown there and not kept (--token-from):")
	return host.Bind(text), err
}

// rights says which rights a token needs for a purpose, in the host's own words, where its description names them.
func rights(host *describe.Description, purpose string) string {
	if scopes := host.Purposes[purpose]; len(scopes) > 0 {
		return " with the rights for " + purpose + " (" + untrusted.Clean(strings.Join(scopes, ", ")) + ")"
	}
	return ""
}

// tokenFrom gets a token for a host: from a source, or asked where there is none.
func tokenFrom(a *app, source string, host *describe.Description, question string) (secret.Text, error) {
	if source != "" {
		text, err := a.readSecret(source)
		if err == nil && text.Empty() {
			err = &problem{message: "the token from " + source + " is empty", exit: exitCrux}
		}
		return text, err
	}
	if !a.mayAsk() {
		return secret.Text{}, &problem{
			message: "a token for " + host.Name + " is needed, and there is no terminal to ask on",
			advice:  "Give --token-from FILE, or - for standard input.",
			exit:    exitAsk,
		}
	}
	if page := host.Pages.Tokens; page != "" {
		a.tell(fmt.Sprintf("Tokens for %s are made at %s\n", host.Name, page))
	}
	return a.askSecret(question)
}
