package diagnose

import (
	"bytes"
	"errors"
	"slices"
	"strings"
	"time"

	"anchorage.example/unicrux/core/allow"
	"anchorage.example/unicrux/core/chest"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/untrusted"
)

// staleHelper looks whether another helper answers before ours, which has a token that is meant
// for this. It returns the evidence, or nothing.
func (c *checker) staleHelper() []Evidence {
	var own string
	for _, e := range c.keptHere() {
		kept, err := chest.Of(c.station).Get(e)
		if err != nil || bytes.Equal(kept.Token.Reveal(), c.sent.Password.Reveal()) { // closed, or it was ours
			return nil
		}
		if !e.Ended(c.station.Now()) {
			own = e.Name
		}
	}
	if own == "" || c.sent.Password.Empty() || c.sentFrom != "" { // it is not a helper that answered
		return nil
	}
	for _, s := range c.config.For("credential", c.asWritten().String()) {
		if s.Name == "credential.helper" && s.Entry.Value != "" && !hosts.IsHelper(s.Entry.Value) {
			return []Evidence{{"answered by", untrusted.Clean(s.Entry.Value), c.station.Tilde(s.Entry.Origin)}, {"in the chest", "the token " + own + ", which is not asked for", ""}}
		}
	}
	return nil
}

// silentChest tells why the chest, which git asks and which has a token for this, does not give it: it
// is closed, or the token has ended. It returns nil where neither is so.
func (c *checker) silentChest() *Crux {
	list := c.keptHere()
	if len(list) == 0 || !c.asksUs() {
		return nil
	}
	i := slices.IndexFunc(list, c.lasts)
	if i < 0 {
		return crux("token-ended", Proved, Evidence{"in the chest", "the token " + list[0].Name, ""}, Evidence{"ended", list[0].Until.Format(time.DateOnly), ""})
	}
	if place := c.registry.WebPlace(c.base.Host); !slices.ContainsFunc(list, func(e chest.Entry) bool { return slices.Contains(e.Places, place) }) {
		e := list[i]
		found := crux("token-elsewhere", Proved, Evidence{"in the chest", "the token " + e.Name, ""}, Evidence{"leads to", place.String(), "the description of " + e.Host})
		for _, kept := range e.Places {
			found.Evidence = append(found.Evidence, Evidence{"kept for", kept.String(), "the chest"})
		}
		found.token = e.Name
		return found
	}
	if _, err := chest.Of(c.station).Get(list[i]); !errors.Is(err, chest.ErrClosed) {
		return nil
	}
	return crux("chest-closed", Proved, Evidence{"in the chest", "the token " + list[i].Name, ""}, Evidence{"asked", c.helpers(), ""})
}

// keptHere lists what the chest has for git's question.
func (c *checker) keptHere() []chest.Entry {
	list, _ := chest.Of(c.station).At("https", allow.LowerHost(c.base.Host)) // what is damaged answers nobody
	return slices.DeleteFunc(list, func(e chest.Entry) bool { return !e.Fits(c.webUser, strings.TrimPrefix(c.base.Path, "/")) })
}

func (c *checker) lasts(e chest.Entry) bool { return !e.Ended(c.station.Now()) }

// inChest tells whether the chest has a token for this that has not ended.
func (c *checker) inChest() bool { return slices.ContainsFunc(c.keptHere(), c.lasts) }

// asksUs tells whether git asks us for credentials here.
func (c *checker) asksUs() bool {
	return slices.ContainsFunc(c.config.For("credential", c.asWritten().String()), func(s gitlink.Setting) bool {
		return s.Name == "credential.helper" && hosts.IsHelper(s.Entry.Value)
	})
}

// accountOf is the account that a user name of git's stands for: on some hosts all say the same.
func (c *checker) accountOf(user string) string {
	if c.host == nil || user == "" || user != c.host.HTTPS.Username {
		return untrusted.Clean(user)
	}
	list := c.keptHere()
	accounts := map[string]bool{}
	for _, e := range list {
		accounts[e.Account] = true
	}
	if len(accounts) != 1 {
		return ""
	}
	return untrusted.Clean(list[0].Account)
}
