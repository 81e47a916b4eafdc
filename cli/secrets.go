package cli

import (
	"github.com/spf13/cobra"

	"unicrux/core/hosts"
	"unicrux/core/ready"
	"unicrux/core/secret"
	"unicrux/core/sshkey"
)

// secretOptions are the options of commands that may have to ask for secrets.
type secretOptions struct {
	passphrase, token string
	none              bool
}

func (o *secretOptions) addFlags(command *cobra.Command) {
	flags := command.Flags()
	flags.StringVar(&o.passphrase, "passphrase-from", "", "read the key's passphrase from this file, or - for standard input")
	flags.BoolVar(&o.none, "no-passphrase", false, "leave a key that is made unlocked")
	flags.StringVar(&o.token, "token-from", "", "read the host's token from this file, or - for standard input")
}

func (o *secretOptions) validate() error {
	switch {
	case o.none && o.passphrase != "":
		return usage("--passphrase-from and --no-passphrase contradict each other")
	case o.token == "-" && o.passphrase == "-":
		return usage("only one of --token-from and --passphrase-from can read standard input")
	}
	return nil
}

// secrets asks each secret at most once in a run, whatever needs it.
func (a *app) secrets(o *secretOptions) ready.Secrets {
	var token *secret.Text
	known := map[string]secret.Text{} // passphrases, by the name of the key
	ask := a.asker(o.passphrase)
	return ready.Secrets{
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
		Token: func(host *hosts.Description) (secret.Text, error) {
			if token != nil {
				return *token, nil
			}
			text, err := a.token(o.token, host.Name, host.Interface.Tokens)
			if err == nil {
				token = &text
			}
			return text, err
		},
	}
}
