package ready

import (
	"cmp"
	"context"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/chest"
	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/diagnose"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/learn"
	"anchorage.example/unicrux/core/origin"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/core/site"
	"anchorage.example/unicrux/core/tokens"
	"anchorage.example/unicrux/core/workstation"
)

// ErrRefusedToken is returned where the host does not open the repository to the user name and the token that a person
// gave. Nothing is kept then.
var ErrRefusedToken = errors.New("the host does not open this repository with that user name and token")

// applyWeb carries out the actions for the way over HTTPS.
func applyWeb(ctx context.Context, p site.Site, batch *workstation.Batch, action finding.Action,
	request finding.Request, person Person) (string, error) {
	host, err := p.Registry.Find(action.Host)
	if err != nil {
		return "", err
	}
	switch action.Do {
	case finding.SettleWeb:
		return fmt.Sprintf("git reaches %s over HTTPS as its description says.", host.Name),
			hosts.SettleHTTPS(ctx, batch, p.Station, host, p.Program)
	case finding.AskFirst:
		return fmt.Sprintf("git asks the chest alone for %s.", host.Name),
			hosts.AskAlone(ctx, batch, p.Station, []string{host.HTTPSAt()}, p.Program)
	case finding.TrustCA:
		return trustCA(ctx, p, batch, host, action.Authority, person)
	}
	purposes := []string{string(finding.Clone)}
	if action.Purpose == finding.Push {
		purposes = append(purposes, string(finding.Push))
	}
	if action.Do == finding.SignIn {
		return signIn(ctx, p, batch, host, purposes, person)
	}
	if !host.Can("issue-token") {
		return keepToken(ctx, p, batch, tokens.NewToken{Host: host, Purposes: purposes, Account: host.ForAccount},
			request, person)
	}
	return issueToken(ctx, p, batch, host, purposes, person)
}

// signIn keeps what comes of signing in in a browser.
func signIn(ctx context.Context, p site.Site, batch *workstation.Batch, host *describe.Description,
	purposes []string, person Person) (string, error) {
	if err := person.Chest(); err != nil {
		return "", err
	}
	n, err := person.Browser(ctx, host, purposes)
	if err != nil {
		return "", err
	}
	e, _, err := tokens.Keep(ctx, p, batch, n)
	return fmt.Sprintf("Signed in to %s. The token %s is in the chest, and git gets it from there.", host.Name,
		e.Name), err
}

// issueToken lets the host's API issue a token.
func issueToken(ctx context.Context, p site.Site, batch *workstation.Batch, host *describe.Description,
	purposes []string, person Person) (string, error) {
	err := person.Chest()
	if err != nil {
		return "", err
	}
	client := p.Client(host, origin.Bound{})
	if host.Operations["issue-token"].SignIn != "password" {
		if client.Token, err = person.Issuer(host); err != nil {
			return "", err
		}
	}
	r := hostapi.TokenRequest{Label: tokens.UsualLabel(p, host, purposes), Purposes: purposes}
	if r.Until, err = tokens.UsualEnd(p, host, "issue-token"); err != nil {
		return "", err
	}
	e, _, err := tokens.Issue(ctx, p, batch, client, r)
	good := ""
	if !e.Until.IsZero() {
		good = ", valid until " + e.Until.Format(time.DateOnly)
	}
	return fmt.Sprintf("%s issued the token %s%s. It is in the chest, and git gets it from there.", host.Name,
		e.Name, good), err
}

// mostTries is how often a person is asked for a token before it ends there.
const mostTries = 3

// keepToken asks a person for a token, proves it, and keeps it in the chest.
func keepToken(ctx context.Context, p site.Site, batch *workstation.Batch, n tokens.NewToken, request finding.Request,
	person Person) (string, error) {
	for try := 1; ; try++ {
		err := askToken(ctx, p, &n, request, person)
		if err == nil {
			break
		}
		wrong := errors.Is(err, ErrRefusedToken) || errors.Is(err, tokens.ErrNotToken)
		if !wrong || try == mostTries || person.Again == nil || !person.Again(err.Error()) {
			return "", err
		}
	}
	if err := person.Chest(); err != nil {
		return "", err
	}
	e, _, err := tokens.Keep(ctx, p, batch, n)
	return fmt.Sprintf("The token %s is in the chest, and git gets it from there.", e.Name), err
}

// askToken asks for a token once. Where the host has no API that says whose it is, the person says it, and git's own
// request for this repository proves it.
func askToken(ctx context.Context, p site.Site, n *tokens.NewToken, request finding.Request, person Person) error {
	tells := n.Host.Can("who") || n.Host.Can("show-token") || n.Host.OAuth.Client != ""
	if !tells {
		n.Account = cmp.Or(n.Host.ForAccount, request.Account)
		if n.Account == "" && n.Host.GitUser("") == "" {
			if person.Account == nil {
				return hostapi.ErrWhose
			}
			var err error
			if n.Account, err = person.Account(n.Host); err != nil {
				return err
			}
		}
	}
	token, err := person.TokenToKeep(n.Host)
	if err == nil {
		token, err = tokens.Pasted(n.Host, token, p.Registry.All())
	}
	if err != nil {
		return err
	}
	n.Secret = chest.Secret{Token: token}
	if tells {
		_, err := tokens.Prove(ctx, p, n.Host, n.Host.Bind(token))
		if errors.Is(err, tokens.ErrTokenUnproved) {
			return fmt.Errorf("%w: it does not know the token", ErrRefusedToken)
		}
		return err
	}
	n.Proved, err = provedByGit(ctx, p, n.Host, n.Account, token, request)
	return err
}

// notTheToken are causes behind the sign-in, at which a host has accepted who asks.
var notTheToken = []causes.Code{causes.ReadOnlyAccount, causes.RepositoryFrozen, causes.BranchProtected}

// provedByGit shows a token to the host in git's own request for the repository, and says how that proved it: not at
// all where a host alone is asked about.
func provedByGit(ctx context.Context, p site.Site, host *describe.Description, account string, token secret.Text,
	request finding.Request) (how string, err error) {
	if request.ByHTTPS {
		return "", nil
	}
	request.Sent = &finding.Sent{User: host.GitUser(account), Token: host.Bind(token)}
	request.Second = true
	way, err := diagnose.Check(ctx, p.Station, p.Registry, request)
	switch {
	case err != nil:
		return "", err
	case way.IsOpen() || slices.Contains(notTheToken, way.Crux.Code) || !way.Crux.Stage.Before(causes.Permission):
		return "git's own request for " + way.Question.Repo, nil
	}
	return "", fmt.Errorf("%w: %s", ErrRefusedToken, strings.TrimSuffix(way.Crux.Summary, "."))
}

// trustCA keeps a certificate authority for a learned host, after the person has compared it.
func trustCA(ctx context.Context, p site.Site, batch *workstation.Batch, host *describe.Description, der []byte,
	person Person) (string, error) {
	certificate, err := x509.ParseCertificate(der)
	if err != nil {
		return "", err
	}
	if err := person.VouchCA(host.HTTPSAt(), certificate); err != nil {
		return "", err
	}
	source, err := learn.Trusting(host, string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})))
	if err != nil {
		return "", err
	}
	if err := hosts.Add(batch, p.Station, source); err != nil {
		return "", err
	}
	return fmt.Sprintf("git and Unicrux trust this certificate for %s, and for no other host.", host.HTTPSAt()),
		hosts.SettleHTTPS(ctx, batch, p.Station, source.Description, p.Program)
}
