package cli

import (
	"errors"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"anchorage.example/unicrux/core/agent"
	"anchorage.example/unicrux/core/chest"
	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/keys"
	"anchorage.example/unicrux/core/origin"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/core/site"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/tokens"
	"anchorage.example/unicrux/core/untrusted"
)

// secretOptions are the options of commands that may have to ask for secrets.
type secretOptions struct {
	passphrase string
	tokens     []string // each a source, or HOST= and a source
	none       bool
	chest      string // where the chest's passphrase comes from
	plainFor   string // the host that got the source without a name
}

func (o *secretOptions) addFlags(command *cobra.Command) {
	flags := command.Flags()
	flags.Var(named(&o.passphrase, "FILE"), "passphrase-from",
		"read the key's passphrase from FILE, or - for standard input")
	flags.BoolVar(&o.none, "no-passphrase", false, "leave a key that is made unlocked")
	o.addToken(command)
}

func (o *secretOptions) addToken(command *cobra.Command) {
	command.Flags().Var(&wordList{to: &o.tokens, is: "FILE"}, "token-from",
		"read the host's token from FILE, or - for standard input; HOST=FILE, one for each host")
}

// tokenSource is where the token for a host comes from; empty when it is to be asked. A source
// without a name serves one host alone: no other is ever sent that token.
func (o *secretOptions) tokenSource(host string) (string, error) {
	for _, source := range o.tokens {
		if rest, named := strings.CutPrefix(source, host+"="); named {
			return rest, nil
		}
	}
	for _, source := range o.tokens {
		if name, _, named := strings.Cut(source, "="); named && !strings.ContainsAny(name, "/\\.") {
			continue // another host's
		}
		if o.plainFor != "" && o.plainFor != host {
			return "", usage("the token from %s went to %s, and %s needs its own: --token-from %s=FILE", source,
				o.plainFor, host, host)
		}
		o.plainFor = host
		return source, nil
	}
	return "", nil
}

// validate tells what contradicts itself, or the policy of the machine.
func (o *secretOptions) validate(a *app) error {
	switch {
	case o.none && o.passphrase != "":
		return usage("--passphrase-from and --no-passphrase contradict each other")
	case slices.Contains(o.tokens, "-") && o.passphrase == "-":
		return usage("only one of --token-from and --passphrase-from can read standard input")
	case o.none:
		return keys.MayBeUnlocked(a.station)
	}
	return nil
}

// secrets asks each secret at most once in a run, whatever needs it.
func (a *app) secrets(o *secretOptions) site.Secrets {
	tokens := map[string]origin.Bound{}
	known := map[string]secret.Text{} // passphrases, by the name of the key
	ask := a.asker(o.passphrase)
	token := func(purpose string) func(*describe.Description) (origin.Bound, error) {
		return func(host *describe.Description) (origin.Bound, error) {
			name := host.Name + " " + purpose
			if text, found := tokens[name]; found {
				return text, nil
			}
			text, err := tokenFor(a, o, host, purpose)
			if err == nil {
				tokens[name] = text
			}
			return text, err
		}
	}
	return site.Secrets{
		NewPassphrase: func(name string) (secret.Text, error) {
			text, err := a.newPassphrase(o.passphrase, o.none)
			if err == nil && !text.Empty() {
				known[name] = text
			}
			return text, err
		},
		Passphrase: func(pair *sshkey.Pair) (secret.Text, error) {
			if text, found := known[pair.Name()]; found {
				return text, nil
			}
			text, err := ask(pair)
			if err == nil {
				known[pair.Name()] = text
			}
			return text, err
		},
		Chest: func() error {
			c := chest.Of(a.station)
			if err := readyForSecrets(a, c, o.chest); err != nil {
				return err
			}
			return openChest(a, c, o.chest, agent.WorkingDay)
		},
		Forget: func(host *describe.Description) {
			maps.DeleteFunc(
				tokens,
				func(name string, _ origin.Bound) bool { return strings.HasPrefix(name, host.Name+" ") },
			)
		},
		Token:     token("keys"),
		Issuer:    token(""),
		OtherHost: func(asked, other string) (bool, error) { return otherHost(a, asked, other) },
		TokenToKeep: func(host *describe.Description) (secret.Text, error) {
			source, err := o.tokenSource(host.Name)
			if err != nil {
				return secret.Text{}, err
			}
			question := "Token for " + host.Name + " to keep in the chest (--token-from):"
			if host.IsLearned() {
				question = "Token (or password) for " + host.HTTPSAt() + " (--token-from):"
			}
			return tokenFrom(a, source, host, question)
		},
	}
}

// otherHost asks whether another host is meant than the one that was asked for. That is never a part
// of --yes: a line that was copied may name anybody.
func otherHost(a *app, asked, other string) (bool, error) {
	if !a.mayAsk() {
		return false, nil
	}
	answer, err := a.askText("The URL names " + untrusted.Clean(asked) + ". Go to " + untrusted.Clean(other) +
		" instead? yes or [no]:")
	return strings.EqualFold(strings.TrimSpace(answer), "yes"), err
}

// keptToken gets a token for a host's interface out of the chest, where it has one for the purpose:
// what opens the chest is asked where somebody can be.
func keptToken(a *app, o *secretOptions, host *describe.Description, purpose string) (token origin.Bound,
	found bool, err error) {
	place := site.Site{Station: a.station}
	e, found := tokens.For(place, host, purpose)
	if !found {
		return token, false, nil
	}
	var nobody *problem
	if err := openChest(a, tokens.Chest(place), o.chest, agent.WorkingDay); errors.As(err, &nobody) &&
		nobody.exit == exitAsk {
		return token, false, nil
	} else if err != nil {
		return token, false, err
	}
	s, err := tokens.Chest(place).Get(e)
	if err == nil {
		a.progress("The token " + e.Name + " from the chest is shown to the API of " + host.Name + ".")
	}
	return s.Bound(e), err == nil, err
}
