package cli

import (
	"context"

	"github.com/spf13/cobra"

	"anchorage.example/unicrux/core/chest"
	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/expiry"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/oauth"
	"anchorage.example/unicrux/core/origin"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/core/site"
	"anchorage.example/unicrux/core/tokens"
	"anchorage.example/unicrux/render"
)

func tokenNew(a *app) *cobra.Command {
	var o tokenOptions
	command := &cobra.Command{
		Use:   "new HOST",
		Short: "Let a host issue a token for what you want to do, and keep it",
		Long: `Lets a host issue a token through its API, for just what you want to do: the host's
description turns that into its own scopes. The token is tested, goes into the chest, and git
is answered from there. You never see it.

A host whose API requires another token for that gets it by --token-from. Where a host
requires the account's password, it is asked for, used once and not kept.`,
		RunE: func(_ *cobra.Command, args []string) error { return newToken(a, &o, args[0]) },
	}
	o.addPurposes(command)
	flags := command.Flags()
	flags.Var(
		named(&o.until, "WHEN"),
		"until",
		"when it should expire: a day such as 2027-03-31, or 90d, 12w, 1y from now (default: 90d, or the longest that the host allows)",
	)
	flags.Var(
		named(&o.label, "TEXT"),
		"label",
		"under which the host lists it (default: unicrux and this computer's name)",
	)
	passwordOptions(a, command)
	o.addToken(command)
	chestOption(command, &o.chest)
	return command
}

func newToken(a *app, o *tokenOptions, name string) error {
	place, host, err := tokenPlace(a, o, name)
	if err != nil {
		return err
	}
	if !host.Can("issue-token") {
		if host.OAuth.Client != "" {
			return &problem{message: host.Name + " issues no tokens through its API",
				advice: "Sign in instead: unicrux token sign-in " + host.Name, exit: exitCrux}
		}
		p := asProblem(byHandProblem(host, "issue-token"))
		p.advice += " Then keep it: unicrux token add " + host.Name
		return p
	}
	r := hostapi.TokenRequest{Label: o.label, Purposes: o.purposes}
	if len(r.Purposes) == 0 {
		r.Purposes = []string{"clone", "push"}
	}
	if r.Label == "" {
		r.Label = tokens.UsualLabel(place, host, r.Purposes)
	}
	if o.until != "" {
		r.Until, err = expiry.End(o.until, a.station.Now())
	} else {
		r.Until, err = tokens.UsualEnd(place, host, "issue-token")
	}
	if err != nil {
		return err
	}
	if err := tokens.Check(place, host, "issue-token", r); err != nil {
		return err
	}
	if !a.dry {
		if err := readyForSecrets(a, tokens.Chest(place), o.chest); err != nil {
			return err
		}
	}
	client := place.Client(host, origin.Bound{})
	if err := signInForToken(a, o, place, client); err != nil {
		return err
	}
	batch := a.begin("Get a token for "+host.Name+".", host.Name)
	e, proven, err := tokens.Issue(a.ctx, place, batch, client, r)
	if err != nil {
		return err
	}
	return a.showChange(batch, render.KeptToken(a.style(), e, proven, a.station.Now()),
		render.TokenDocument(e, number(batch)))
}

// signInForToken gets what a host wants to be shown before it issues a token.
func signInForToken(a *app, o *tokenOptions, place site.Site, client *hostapi.Client) (err error) {
	host := client.Description
	if a.dry {
		return nil
	}
	if host.Operations["issue-token"].SignIn != "password" {
		client.Token, err = tokenFor(a, &o.secretOptions, host, "")
		return err
	}
	return nil // it is asked for when it is needed
}

func tokenSignIn(a *app) *cobra.Command {
	var o tokenOptions
	command := &cobra.Command{
		Use:   "sign-in HOST",
		Short: "Sign in to a host in a browser, on whatever screen",
		Long: `Signs in by a code that you confirm in a browser, on this computer or any other. What comes of
it goes into the chest, and renews itself. With --browser, and at hosts that offer only that, it
shows the address of a page to open in a browser on this computer, and there is no code to enter.`,
		RunE: func(_ *cobra.Command, args []string) error { return runSignIn(a, &o, args[0]) },
	}
	o.addPurposes(command)
	command.Flags().BoolVar(&o.browser, "browser", false,
		"by a browser on this computer, at an address that is shown: there is no code to enter")
	chestOption(command, &o.chest)
	return command
}

func runSignIn(a *app, o *tokenOptions, name string) error {
	place, host, err := tokenPlace(a, o, name)
	if err != nil {
		return err
	}
	if len(o.purposes) == 0 && len(host.Purposes) > 0 {
		o.purposes = []string{"clone", "push"}
	}
	if a.dry {
		return sayDoneAs(a, "Would sign in to "+host.Name+" in a browser.")
	}
	if err := readyForSecrets(a, tokens.Chest(place), o.chest); err != nil {
		return err
	}
	n, err := inBrowser(a.ctx, a, host, o.purposes, o.browser)
	if err != nil {
		return err
	}
	batch := a.begin("Sign in to "+host.Name+".", host.Name)
	e, proven, err := tokens.Keep(a.ctx, place, batch, n)
	if err != nil {
		return err
	}
	return a.showChange(batch, render.KeptToken(a.style(), e, proven, a.station.Now()),
		render.TokenDocument(e, number(batch)))
}

// inBrowser lets a person sign in to a host in a browser, and returns what came of it.
func inBrowser(ctx context.Context, a *app, host *describe.Description, purposes []string,
	here bool) (n tokens.NewToken, err error) {
	scopes, err := hostapi.Scopes(host, purposes)
	if err != nil {
		return n, err
	}
	server, err := oauth.Discover(ctx, host)
	if err != nil {
		return n, err
	}
	grant, err := signedIn(a, server, scopes, host.Name, here || server.Device == "" && server.Authorize != "")
	if err != nil {
		return n, err
	}
	return tokens.NewToken{Host: host, Secret: chest.Secret{Token: grant.Access, Refresh: grant.Refresh},
		Purposes: purposes, Scopes: grant.Scopes, Until: grant.Until, Signed: !grant.Refresh.Empty(),
		Label: "signed in"}, nil
}

// signedIn lets a person decide in a browser: on this computer, or on any by a code.
func signedIn(a *app, server *oauth.Server, scopes []string, host string, here bool) (*oauth.Grant, error) {
	if here {
		return server.ByBrowser(a.ctx, scopes, func(page string) {
			a.tell(render.BrowserPrompt(a.errStyle(), page, host)) // also with --quiet: nobody could sign in without it
		})
	}
	prompt, err := server.Begin(a.ctx, scopes)
	if err != nil {
		return nil, err
	}
	a.progressText(render.SignInPrompt(a.errStyle(), prompt, host))
	return server.Wait(a.ctx, prompt)
}

func tokenAdd(a *app) *cobra.Command {
	var o tokenOptions
	command := &cobra.Command{
		Use:   "add HOST",
		Short: "Keep a token that was made on a web page, after testing it",
		Long: `Keeps a token that you made on the host's page. It is pasted into a hidden question, or read
with --from; cleaned of white space and quotes; looked at, whether it is really a token of this
host; and tested there before it goes into the chest.`,
		RunE: func(_ *cobra.Command, args []string) error { return addToken(a, &o, args[0]) },
	}
	o.addPurposes(command)
	flags := command.Flags()
	flags.Var(named(&o.from, "FILE"), "from", "read the token from FILE, or - for standard input")
	flags.Var(named(&o.until, "WHEN"), "until",
		"when it ends, where the host does not tell: a day, or 90d, 12w, 1y from now")
	flags.Var(named(&o.account, "ACCOUNT"), "account", "whose it is, where the host does not tell")
	chestOption(command, &o.chest)
	return command
}

func addToken(a *app, o *tokenOptions, name string) error {
	place, host, err := tokenPlace(a, o, name)
	if err != nil {
		return err
	}
	n := tokens.NewToken{Host: host, Purposes: o.purposes, Account: o.account}
	if n.Account == "" {
		n.Account = host.ForAccount
	}
	if o.until != "" {
		if n.Until, err = expiry.End(o.until, a.station.Now()); err != nil {
			return err
		}
	}
	if a.dry {
		return sayDoneAs(a, "Would test a token for "+host.Name+" and keep it in the chest.")
	}
	text, err := askPasted(a, o, host)
	if err != nil {
		return err
	}
	if n.Secret.Token, err = tokens.Pasted(host, text, place.Registry.All()); err != nil {
		return err
	}
	if err := readyForSecrets(a, tokens.Chest(place), o.chest); err != nil {
		return err
	}
	batch := a.begin("Keep a token for "+host.Name+".", host.Name)
	e, proven, err := tokens.Keep(a.ctx, place, batch, n)
	if err != nil {
		return err
	}
	return a.showChange(batch, render.KeptToken(a.style(), e, proven, a.station.Now()),
		render.TokenDocument(e, number(batch)))
}

func askPasted(a *app, o *tokenOptions, host *describe.Description) (secret.Text, error) {
	switch {
	case o.from != "":
		return a.readSecret(o.from)
	case !a.mayAsk():
		return secret.Text{}, &problem{message: "the token is needed, and there is no terminal to ask on",
			advice: "Give --from FILE, or - for standard input.", exit: exitAsk}
	}
	if page := host.Pages.Tokens; page != "" {
		a.progress("Tokens for " + host.Name + " are made at " + page)
	}
	return a.askSecret("Token for " + host.Name + " (--from):")
}
