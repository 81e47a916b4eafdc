package localcheck

import (
	"context"
	"net/url"

	"anchorage.example/unicrux/core/allow"
	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/chest"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/diagnose/seen"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/untrusted"
)

// Allowed asks the host's API whether an account may push, where git's own protocol has answered: some hosts advertise
// writing to everybody who may read, and refuse only behind the push. The crux is nil where it may, or where nobody
// says; the part says what the API said.
func Allowed(ctx context.Context, l Located, client *hostapi.Client) (part finding.Part, crux *finding.Crux) {
	if client == nil || client.Token.Empty() || l.Question.Purpose != finding.Push || l.Question.Repo == "" ||
		l.Request.Second || !l.saysAccess() {
		return part, nil
	}
	repo, err := client.Repo(ctx, l.Question.Repo)
	if err != nil { // what the token may not ask is no answer
		return part, nil
	}
	api := "the API of " + l.Host.Name
	switch {
	case repo.Frozen:
		crux = finding.New(causes.RepositoryFrozen, finding.Proved, finding.Saw(seen.Repository,
			untrusted.Clean(repo.Path)+" is frozen", api))
	case repo.Access == hostapi.Read:
		crux = finding.New(causes.ReadOnlyAccount, finding.Proved,
			finding.Saw(seen.AskedFor, untrusted.Clean(repo.Path), ""), finding.Saw(seen.TheAccountMay, "read", api),
			finding.Saw(seen.Git, "is let in for pushing all the same: the host would refuse behind it", ""))
	case repo.Access == hostapi.Write:
		part.Fact(causes.Permission, "the account may", "write", api)
	}
	return part, crux
}

// saysAccess reports whether the host's API says what an account may do in a repository.
func (l Located) saysAccess() bool {
	if l.Host == nil {
		return false
	}
	show, found := l.Host.Operations["show-repo"]
	return found && len(show.Fields["access"])+len(show.Fields["frozen"]) > 0
}

// API speaks to the host's API with a token of an account that the chest has, where that is open; nil where there is
// none. Whatever another account may do says nothing.
func (l Located) API(account string) *hostapi.Client {
	if account == "" || !l.saysAccess() {
		return nil
	}
	at, err := url.Parse(l.Host.Interface.URL)
	if err != nil {
		return nil
	}
	list, _ := chest.Of(l.Station).At("https", allow.LowerHost(at.Host)) // one that is damaged is reported elsewhere
	for _, e := range list {
		if e.Account != account || e.Ended(l.Station.Now()) {
			continue
		}
		if kept, err := chest.Of(l.Station).Get(e); err == nil {
			return &hostapi.Client{Description: l.Host, Token: kept.Bound(e), Timeout: l.Request.For()}
		}
	}
	return nil
}
