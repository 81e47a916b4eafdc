package localcheck

import (
	"regexp"
	"strings"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/allow"
	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/gitlink"
)

// Unicrux is how our own commands begin.
const Unicrux = "unicrux"

// hgMends are mends in hg's terms, where those of the catalogue are in git's.
var hgMends = map[causes.Code]string{
	causes.SecretMissing:    "Write a group for HOST under [auth] in your .hgrc, with prefix, username and password; a token takes the password's place.",
	causes.TokenUnknown:     "Get a new token for HOST, and use it as the password in that line.",
	causes.RemoteMissing:    "Name a path that is there, or add this one under [paths] in .hg/hgrc.",
	causes.SSHCommandBroken: "Correct ui.ssh in hg's configuration, or remove it: then hg uses ssh.",
	causes.RepositoryOwner:  "If you trust what is in it, name its owner under [trusted] in your own .hgrc: users = OWNER. Else work as the user who owns it.",
	causes.URLMalformed:     "Copy the clone URL again. hg accepts ssh://USER@NAME/PATH and https://NAME/PATH.",
}

// CatalogueMend is what the catalogue says to do about a crux, in the question's own words. account is who signed in,
// where that is known; knownHosts are as for [Located.LikelyName].
func (l Located) CatalogueMend(crux *finding.Crux, account string, knownHosts []string) finding.Mend {
	words, by := causes.Mend(crux.Code)
	if own, found := hgMends[crux.Code]; found && l.Hg != nil {
		words = own
	}
	if account == "" {
		account = "your account"
	}
	url := l.BetterURL(crux, knownHosts)
	if url == "" {
		url = "the one that the host's page calls a clone URL"
	}
	words = strings.NewReplacer("HOST", l.Question.Host, "REPO", l.Question.Repo, "ACCOUNT", account, ": URL",
		": "+url).Replace(words)
	return finding.Mend{Summary: words, By: by}
}

// Mends are those for which nothing but the question is needed: a better URL, or a command of git's by which the person
// decides what is theirs. It is nil where there is none.
func (l Located) Mends(mend finding.Mend, crux *finding.Crux, knownHosts []string) []finding.Mend {
	if url := l.BetterURL(crux, knownHosts); url != "" {
		if mend = l.UseURL(mend, url); crux.Code == causes.NameUnknown { // a guess is not to be acted on unasked
			mend.Summary += " It looks like " + l.LikelyName(knownHosts) + "."
		}
		return []finding.Mend{mend}
	}
	if command := l.Exact(crux); command != nil {
		mend.Command = command
		return []finding.Mend{mend}
	}
	if crux.Code == causes.AuthorMissing && l.Hg == nil {
		mend = l.Command(mend, finding.Action{Do: finding.NameAuthor}, l.Station.Tilde(gitlink.GlobalFile(l.Station)),
			Unicrux, "host", "set", l.Question.Host, "author-name=NAME", "author-email=ADDRESS")
		mend.Automatic = false // nobody knows who it is but the person
		return []finding.Mend{mend}
	}
	return nil
}

// Exact is the command by which the person mends what is theirs to decide; nil for none.
func (l Located) Exact(crux *finding.Crux) []string {
	switch crux.Code {
	case causes.RepositoryNotGit:
		if l.Base != nil && crux.Other != "" {
			return []string{string(crux.Other), "clone", l.Base.String()}
		}
	case causes.RepositoryOwner:
		if l.Hg != nil { // it has no command for it
			return nil
		}
		return []string{"git", "config", "--global", "--add", "safe.directory", l.Station.Folder}
	case causes.URLRewritten:
		name := ".insteadOf"
		if l.Rule.PushOnly {
			name = ".pushInsteadOf"
		}
		return []string{"git", "config", "--file", l.Rule.Origin, "--unset-all", "url." + l.Rule.Base + name,
			"^" + regexp.QuoteMeta(l.Rule.Prefix) + "$"}
	case causes.SSHProgramUnknown:
		return []string{"git", "ls-remote", l.Question.URL}
	case causes.BranchUntracked:
		return []string{"git", "push", "--set-upstream", l.Question.Remote, "HEAD"}
	case causes.HistoryDiverged:
		return []string{"git", "pull", "--rebase", l.Question.Remote}
	}
	return nil
}

// Command completes a mend that is carried out by an action, and by a command just as well.
func (l Located) Command(mend finding.Mend, action finding.Action, changes string, words ...string) finding.Mend {
	action.Host, action.HostName = l.Question.Host, l.Address.Host
	mend.Command, mend.Action, mend.Automatic = words, action, true
	if changes != "" {
		mend.Changes = []string{changes}
	}
	return mend
}

// Again is the command that applies a mend which has no command of its own.
func (l Located) Again() []string {
	words := []string{Unicrux, "check", "--mend"}
	if l.Question.Purpose == finding.Push {
		words = append(words, "--for", "push")
	}
	if words = append(words, l.Request.Argument); l.Alone {
		words = append(words, "--by", "https")
	}
	return words
}

// UseURL makes a mend use another URL: a remote's can be set; one that was given has to be given anew. Nothing of that
// is done by itself where it names another host than the one that was asked for.
func (l Located) UseURL(mend finding.Mend, url string) finding.Mend {
	action := finding.Action{Do: finding.UseURL, URL: url}
	switch remote := l.Question.Remote; {
	case !allow.SameHost(urlHost(url), l.Address.Host):
		if action.OtherHost = urlHost(url); remote != "" && l.Hg == nil {
			mend.Command = []string{"git", "remote", "set-url", remote, url}
		} else if remote == "" {
			mend.Action = action
		}
	case remote != "" && l.Hg != nil: // hg has no command for it
		mend.Summary += " Set " + remote + " to " + url + " under [paths] in .hg/hgrc."
	case remote != "":
		action.Do, action.Remote = finding.SetRemote, remote
		mend = l.Command(mend, action, "the URL of "+remote+" in this repository", "git", "remote",
			"set-url", remote, url)
	default:
		mend.Action = action
	}
	return mend
}

// urlHost is the host that a clone URL names; empty where it names none.
func urlHost(url string) string {
	a, err := address.Parse(url)
	if err != nil {
		return ""
	}
	return a.Host
}
