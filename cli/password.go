package cli

import (
	"cmp"

	"github.com/spf13/cobra"

	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/secret"
)

// A passwordSource is from where the password of an account comes, for what a host does for that alone.
type passwordSource struct {
	account, from string
	known         map[string]credential // by host: asked once in a run
}

type credential struct {
	account  string
	password secret.Text
}

// passwordOptions adds the options by which a script signs in with an account's password.
func passwordOptions(a *app, command *cobra.Command) {
	flags := command.Flags()
	flags.Var(named(&a.password.account, "ACCOUNT"), "account", "the account, for a host that wants its password")
	flags.Var(named(&a.password.from, "FILE"), "password-from",
		"read the account's password from FILE, or - for standard input")
}

// signInByPassword gives a client the account, its password, and who asks for the code of a second step. They are used
// for one run and kept nowhere.
func (a *app) signInByPassword(client *hostapi.Client) (err error) {
	host := client.Description
	client.Second = func() (secret.Text, error) { return a.secondStep(host.Name) }
	if known, found := a.password.known[host.HostName()]; found {
		client.Account, client.Password = known.account, known.password
		return nil
	}
	client.Account = cmp.Or(a.password.account, host.ForAccount, client.Account)
	if client.Account == "" {
		if client.Account, err = a.askAccountFor(host.Name); err != nil {
			return err
		}
	}
	switch {
	case a.password.from != "":
		client.Password, err = a.readSecret(a.password.from)
	case !a.mayAsk():
		err = &problem{message: "the password of " + client.Account + " is needed, and there is no terminal to ask on",
			advice: "Give it with --password-from FILE, or - for standard input.", exit: exitAsk}
	default:
		client.Password, err = a.askSecret("Password of " + client.Account + " at " + host.Name +
			", used once (--password-from):")
	}
	if err == nil && client.Password.Empty() {
		err = usage("the password is empty")
	}
	if err == nil {
		if a.password.known == nil {
			a.password.known = map[string]credential{}
		}
		a.password.known[host.HostName()] = credential{client.Account, client.Password}
	}
	return err
}

func (a *app) askAccountFor(host string) (string, error) {
	if !a.mayAsk() {
		return "", &problem{
			message: host + " does this only with an account's password, and there is no terminal to ask on",
			exit:    exitAsk,
			advice:  "Say whose: --account ACCOUNT --password-from FILE",
		}
	}
	account, err := a.askText("Account at " + host + " (--account):")
	if err == nil && account == "" {
		err = usage("the account is empty")
	}
	return account, err
}

// secondStep asks for the code of a second step.
func (a *app) secondStep(host string) (secret.Text, error) {
	if !a.mayAsk() {
		return secret.Text{}, &problem{
			message: host + " requires a code for a second step, and there is no terminal to ask on",
			advice:  "Run it in a terminal.",
			exit:    exitAsk,
		}
	}
	return a.askSecret("Code of the second step for " + host + " (from your other device):")
}
