package diagnose

import (
	"context"
	"errors"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/allow"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/knownhosts"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/sshway"
	"anchorage.example/unicrux/core/suggest"
	"anchorage.example/unicrux/core/untrusted"
)

// suspect notes what in the address and the settings would explain a break. It counts only
// when the way breaks: another key, say, may open it all the same.
func (c *checker) suspect() {
	c.suspectAddress()
	c.suspectHome()
	if !c.passage.Client.KeySignIn {
		keyword := "PubkeyAuthentication"
		value, origin, set := c.passage.Settings.First("preferredauthentications")
		if no, from, off := c.passage.Settings.First("pubkeyauthentication"); off && !set || strings.EqualFold(no, "no") {
			value, origin = no, from
		} else {
			keyword = "PreferredAuthentications"
		}
		c.add(SignIn, crux("ssh-setting-hinders", Proved, Evidence{"setting", keyword + " " + untrusted.Clean(value), c.origin(origin)}))
		return
	}
	for _, left := range c.passage.Left {
		c.add(SignIn, c.suspectFile(left))
	}
	for _, key := range c.passage.Keys {
		if key.Public == nil {
			suspect := crux("key-locked", Likely, Evidence{"key", key.Name, c.origin(key.Origin)},
				Evidence{"public half", "cannot be read without the passphrase, and no public file lies beside it", ""})
			suspect.key = key.Path
			c.add(SignIn, suspect)
		}
		if key.Pair != nil && errors.Is(key.Pair.PublicBad, sshkey.ErrOtherKey) {
			c.add(SignIn, crux("key-pair-mismatch", Proved, Evidence{"file", c.station.Tilde(key.Path) + ".pub", ""},
				Evidence{"it says", sshkey.Fingerprint(key.Pair.Beside), ""}, Evidence{"key", sshkey.Fingerprint(key.Pair.Public), c.station.Tilde(key.Path)}))
		}
	}
	if len(c.offered()) == 0 {
		c.suspectNoKey()
	}
}

func (c *checker) add(from StageName, crux *Crux) {
	to := SignIn
	if crux.Stage == Address { // a wrong address may lead to a host that lets us in
		to = Permission
	}
	c.suspicions = append(c.suspicions, suspicion{crux, from, to, nil})
}

// addFor notes what would explain one break alone.
func (c *checker) addFor(code Code, crux *Crux) {
	c.suspicions = append(c.suspicions, suspicion{crux, StageOf(code), StageOf(code), []Code{code}})
}

const portLike = `^[0-9]{1,5}/.`

func (c *checker) suspectAddress() {
	a := c.address
	if a.Short && a.Port == 0 && says(a.Path, portLike) {
		port, _, _ := strings.Cut(a.Path, "/")
		c.add(Reach, crux("url-port-in-short-form", Likely, Evidence{"path", a.Path, ""},
			Evidence{"port", c.passage.HostPort() + ", not " + port, ""}))
	}
	if !strings.ContainsAny(a.Host, ".:") && allow.SameHost(c.passage.Client.HostName, a.Host) {
		suspect := crux("url-alias-unknown", Likely, Evidence{"short name", a.Host, "the URL"}, Evidence{"settings", "say nothing about it", ""})
		c.suspicions = append(c.suspicions, suspicion{suspect, Reach, Reach, []Code{"name-unknown"}})
	}
	if a.User == "" && c.passage.Settings.All("user") == nil && c.way.Question.Repo != "" {
		c.add(SignIn, crux("url-user-missing", Likely, Evidence{"sent", untrusted.Clean(c.passage.Client.User), "the login name here"}))
	}
}

// suspectHome looks whether our settings for the host stand in a home that ssh does not read.
func (c *checker) suspectHome() {
	if c.station.SameHome() || c.passage.Command.Line.Config != "" || !c.passage.Command.Clear || c.host == nil {
		return
	}
	if _, err := os.Stat(hosts.OurFile(c.station)); err != nil {
		return
	}
	c.add(Reach, crux("other-user", Proved, Evidence{"ssh reads", filepath.Join(c.station.SSHHome, ".ssh", "config"), "the home of " + c.station.User + " in the password database"},
		Evidence{"git reads", filepath.Join(c.station.Home, ".gitconfig"), "HOME"},
		Evidence{"settings", "for " + c.host.Name + " stand in the second", hosts.OurFile(c.station)}))
}

func (c *checker) suspectFile(left sshway.LeftOut) *Crux {
	code := Code("key-file-unreadable")
	switch {
	case errors.Is(left.Err, fs.ErrNotExist):
		code = "key-file-missing"
	case errors.Is(left.Err, sshkey.ErrPublicHalf):
		code = "key-file-public"
	case errors.Is(left.Err, sshway.ErrExposed):
		code = "key-file-exposed"
	}
	suspect := crux(code, Proved, Evidence{"file", c.station.Tilde(left.Path), c.origin(left.Origin)})
	suspect.path = left.Path
	if code == "key-file-unreadable" {
		suspect.Evidence = append(suspect.Evidence, Evidence{"why", left.Err.Error(), ""})
	}
	return suspect
}

// suspectNoKey: nothing at all can be offered. Where keys lie in other places, trust comes
// first, so that the host can be asked about them.
func (c *checker) suspectNoKey() {
	from := Trust
	if len(c.elsewhere()) > 0 {
		from = SignIn
	}
	if c.passage.Client.Agent != "" && c.passage.AgentErr != nil {
		origin := c.origin(c.passage.Client.Origin("identityagent"))
		if origin == "" {
			origin = "SSH_AUTH_SOCK"
		}
		c.add(from, crux("agent-unreachable", Proved, Evidence{"agent", c.station.Tilde(c.passage.Client.Agent), origin},
			Evidence{"key files", "none either", ""}))
	}
	if len(c.passage.Left) == 0 && len(c.passage.Keys) == 0 {
		c.add(from, c.noKey())
	}
}

func (c *checker) noKey() *Crux {
	var evidence []Evidence
	folders := map[string][]string{}
	for _, identity := range c.passage.Client.Identities {
		folder := c.station.Tilde(filepath.Dir(identity.Path))
		if folders[folder] == nil {
			evidence = append(evidence, Evidence{"looked in", folder, c.origin(identity.Origin)})
		}
		folders[folder] = append(folders[folder], filepath.Base(identity.Path))
	}
	for i, e := range evidence {
		evidence[i].Text = e.Text + " for " + strings.Join(folders[e.Text], ", ")
	}
	switch {
	case c.passage.Client.Agent == "":
		evidence = append(evidence, Evidence{"agent", "none", ""})
	case c.passage.AgentErr == nil:
		evidence = append(evidence, Evidence{"agent", "holds no key", c.station.Tilde(c.passage.Client.Agent)})
	}
	return crux("key-none", Proved, evidence...)
}

// missingAuthor asks git whether it knows whose commits these are. A push goes without, but
// the commit before it does not: so it stops the way only where something is left to commit,
// and is told once nothing else does.
func (c *checker) missingAuthor(ctx context.Context) *Crux {
	if c.way.Question.Purpose != Push || !c.config.InRepository() {
		return nil
	}
	words := gitlink.AuthorProblem(ctx, c.station)
	if words == "" {
		return nil
	}
	if !gitlink.Uncommitted(ctx, c.station) {
		c.note("author-missing")
		return nil
	}
	return crux("author-missing", Proved, Evidence{"git says", untrusted.Quote(untrusted.Clean(words)), ""}, Evidence{"here", "something is not committed yet", ""})
}

// likelyName finds a host name that is known here and looks like the one that does not
// exist: of a described host, of another remote, or of a host whose key is stored.
func (c *checker) likelyName() string {
	var known []string
	for _, d := range c.registry.Hosts {
		known = append(known, d.HostName())
	}
	for _, remote := range c.config.Remotes() {
		url, _, _ := c.config.RemoteURL(remote, false)
		if other, err := address.Parse(url.Value); err == nil {
			known = append(known, other.Host)
		}
	}
	if c.passage != nil {
		known = append(known, knownhosts.Names(append(slices.Clone(c.passage.Client.KnownHosts), c.passage.Client.SystemHosts...))...)
	}
	best, name := 3, "" // at most two slips
	for _, host := range known {
		if n := suggest.Distance(strings.ToLower(c.address.Host), strings.ToLower(host), best); n > 0 && n < best {
			best, name = n, host
		}
	}
	return name
}

// betterURL is the clone URL that the crux suggests in place of the one that was given;
// empty when it suggests none.
func (c *checker) betterURL(crux *Crux) string {
	a := c.address
	switch crux.Code {
	case "url-characters":
		if clean := cleanURL(c.given); clean != "" && c.strangeCharacters(clean) == nil {
			return clean
		}
		return ""
	case "url-secret":
		plain := *c.base
		plain.User = nil
		if c.webUser != "" {
			plain.User = url.User(c.webUser)
		}
		return plain.String()
	case "url-is-a-page", "url-transport-refused":
		switch {
		case c.host == nil:
			return ""
		case !c.host.HasSSH() && crux.Code == "url-is-a-page":
			return c.host.CloneHTTPS(pageRepository(a.Path) + ".git")
		case !c.host.HasSSH():
			return ""
		}
		return address.Address{Scheme: "ssh", User: c.host.SSH.User, Host: c.host.HostName(), Path: "/" + pageRepository(a.Path)}.String()
	case "url-port-in-short-form":
		port, path, _ := strings.Cut(a.Path, "/")
		return address.Address{Scheme: "ssh", User: a.User, Host: a.Host, Port: portNumber(port), Path: "/" + path}.String()
	case "url-user-missing":
		a.User = "git"
		if c.host != nil {
			a.User = c.host.SSH.User
		}
		return a.String()
	case "name-unknown":
		if a.Host = c.likelyName(); a.Host != "" {
			return a.String()
		}
	}
	return ""
}
