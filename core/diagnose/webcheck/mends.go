package webcheck

import (
	"slices"

	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/diagnose/localcheck"
	"anchorage.example/unicrux/core/hosts"
)

// Mends lists what removes a crux on the way over HTTPS, the best first. account is who signed in, where that is known.
func Mends(s Settled, account string, crux *finding.Crux) []finding.Mend {
	mend := s.CatalogueMend(crux, account, nil)
	if command := s.Exact(crux); command != nil {
		if mend.Command = command; crux.Code == causes.RepositoryNotGit {
			mend.Summary, mend.By = "The URL is right, for another program.", causes.You
		}
		return []finding.Mend{mend}
	}
	if !crux.Stage.Before(causes.Reach) || slices.Contains(early, crux.Code) {
		return s.mends(mend, crux)
	}
	if list := s.Located.Mends(mend, crux, nil); len(list) > 0 {
		return list
	}
	return []finding.Mend{mend}
}

// early are the causes before the network that have a mend of their own here.
var early = []causes.Code{causes.HelperStale, causes.ChestClosed, causes.TokenElsewhere}

// needsToken are the cruxes that a new token in the chest removes.
var needsToken = []causes.Code{causes.SecretMissing, causes.TokenUnknown, causes.TokenEnded, causes.PasswordRefused,
	causes.TokenMisplaced, causes.TokenPurposeMissing}

// mends are the mends of cruxes on the way over HTTPS.
func (s Settled) mends(mend finding.Mend, crux *finding.Crux) []finding.Mend {
	if crux.Code == causes.TokenElsewhere {
		mend.Command = []string{localcheck.Unicrux, "token", "test", crux.Token}
		return []finding.Mend{mend}
	}
	if crux.Code == causes.ChestClosed {
		return []finding.Mend{s.Command(mend, finding.Action{Do: finding.OpenChest}, "", localcheck.Unicrux,
			"chest", "open")}
	}
	if d := s.Registry.ForHost(s.Address.Host); s.Host == nil && d != nil && crux.Stage == causes.Reach &&
		d.Elsewhere(s.Address) {
		url := d.CloneHTTPS(s.Address.Path)
		return []finding.Mend{s.UseURL(finding.Mend{Summary: "Use the address that the description of " + d.Name +
			" names: " + url, By: causes.You}, url)}
	}
	if s.Hg != nil { // what we settle there is git's
		return []finding.Mend{mend}
	}
	if s.Host == nil {
		if slices.Contains(needsToken, crux.Code) && s.Base.Scheme == "https" {
			mend.Command = append([]string{localcheck.Unicrux, "ready", s.Base.String()}, s.purposeWords()...)
		}
		return []finding.Mend{mend}
	}
	if crux.Code == causes.SecretMissing && !s.asksUs() && s.inChest() {
		mend = finding.Mend{Summary: "Let git ask the chest, which has a token for " + s.Host.Name + ".",
			By: causes.You}
		return []finding.Mend{s.Command(mend, finding.Action{Do: finding.SettleWeb},
			s.Station.Tilde(hosts.OurGitFile(s.Station)), localcheck.Unicrux, "ready", s.asked(), "--by", "https")}
	}
	if s.unsettled() && (crux.Stage == causes.Reach || crux.Stage == causes.Trust) {
		mend = finding.Mend{Summary: "Settle how git reaches " + s.Host.Name + " over HTTPS, as its description says.",
			By: causes.You}
		return []finding.Mend{s.Command(mend, finding.Action{Do: finding.SettleWeb},
			s.Station.Tilde(hosts.OurGitFile(s.Station)), localcheck.Unicrux, "ready", s.asked(), "--by", "https")}
	}
	if crux.Code == causes.TLSAuthorityUnknown && s.Host.IsLearned() && crux.Top != nil {
		mend.Command = []string{localcheck.Unicrux, "host", "set", s.Host.Name, "authority=FILE"}
		mend = s.Command(mend, finding.Action{Do: finding.TrustCA, Authority: crux.Top}, "", mend.Command...)
		mend.Automatic = false // somebody has to compare it
		return []finding.Mend{mend}
	}
	if crux.Code == causes.HelperStale {
		return []finding.Mend{s.Command(mend, finding.Action{Do: finding.AskFirst},
			s.Station.Tilde(hosts.OurGitFile(s.Station)), s.Again()...)}
	}
	if !slices.Contains(needsToken, crux.Code) {
		return []finding.Mend{mend}
	}
	purpose := s.Question.Purpose
	verb := "new"
	if !s.Host.Can("issue-token") {
		if verb = "add"; s.Host.OAuth.Client != "" {
			verb = "sign-in"
		}
	}
	words := []string{localcheck.Unicrux, "token", verb, s.Host.Name, "--for", string(purpose)}
	if verb == "sign-in" { // somebody must be there
		mend = s.Command(mend, finding.Action{Do: finding.SignIn, Purpose: purpose},
			"a token in the chest, and whom git asks for "+s.Host.Name, words...)
		mend.Automatic = false
		return []finding.Mend{mend}
	}
	return []finding.Mend{s.Command(mend, finding.Action{Do: finding.GetToken, Purpose: purpose},
		"a token in the chest, and whom git asks for "+s.Host.Name, words...)}
}

// purposeWords say for a command of ours what the way is for, where that is not its default.
func (s Settled) purposeWords() []string {
	if s.Question.Purpose == finding.Push {
		return []string{"--for", "push"}
	}
	return nil
}

// asked is what was asked about, as a command takes it anywhere.
func (s Settled) asked() string {
	if s.Alone {
		return s.Request.Argument
	}
	return s.Base.String()
}

// unsettled tells whether the description says more about the way over HTTPS than git knows.
func (s Settled) unsettled() bool {
	h := s.Host.HTTPS
	return (h.Address != "" && s.Web.At != h.Address) ||
		(h.Authority != "" && s.Web.Authority != hosts.AuthorityFile(s.Station, s.Host) &&
			s.Web.Origin("authority") == "")
}
