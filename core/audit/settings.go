package audit

import (
	"bytes"
	"cmp"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"anchorage.example/unicrux/core/apply"
	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/knownhosts"
	"anchorage.example/unicrux/core/plainsecrets"
	"anchorage.example/unicrux/core/policy"
	"anchorage.example/unicrux/core/regular"
	"anchorage.example/unicrux/core/sshconfig"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/core/workstation"
)

// sshSettings reads the lines of the home's own settings for ssh. None of their conditions is looked at.
func (s *seen) sshSettings(e eyes) []sshconfig.SetLine {
	who := gitlink.PersonOf(e.station)
	who.System = nowhere
	lines, problems := sshconfig.Lines(sshconfig.Query{Person: who})
	for _, p := range problems {
		if p.Keyword == "" && p.Err != nil && !errors.Is(p.Err, fs.ErrNotExist) && !strings.HasPrefix(p.Origin.File,
			nowhere) {
			s.unread(e, p.Origin.File, p.Err)
		}
	}
	s.judgeLines(e, lines)
	return lines
}

// judgeLines finds the lines that give trust away.
func (s *seen) judgeLines(e eyes, lines []sshconfig.SetLine) {
	for _, l := range lines {
		at := e.tilde(l.Origin.File)
		switch {
		case isBlind(l.Keyword, l.Args[0]):
			s.mark(policy.TrustBlind, setting(l.Keyword, l.Block), at, l.Origin.Line, untrusted.Clean(l.Args[0]))
		case l.Keyword == "forwardagent" && l.ForAll() && !strings.EqualFold(l.Args[0], "no"):
			s.mark(policy.AgentForwarded, setting(l.Keyword, l.Block), at, l.Origin.Line, "")
		}
	}
}

// isBlind tells whether ssh accepts any host key by a setting: it does not ask, or remembers none.
func isBlind(keyword, value string) bool {
	switch keyword {
	case "stricthostkeychecking":
		return strings.EqualFold(value, "no") || strings.EqualFold(value, "off")
	case "userknownhostsfile", "globalknownhostsfile":
		return value == os.DevNull
	}
	return false
}

// setting names a line by its keyword and the block that it stands in.
func setting(keyword, block string) string {
	if block == "" {
		return keyword
	}
	return keyword + " (" + untrusted.Clean(block) + ")"
}

// gitSettings reads what git reads for this person outside of repositories, and the secrets that stand in plain files.
func (s *seen) gitSettings(e eyes) {
	config, err := gitlink.ReadOwn(e.station)
	if err != nil {
		s.unread(e, gitlink.GlobalFile(e.station), err)
		config = gitlink.NoConfig(e.station)
	}
	s.judgeGit(e, config)
	for _, name := range []string{".netrc", ".git-credentials"} {
		if f, err := regular.OpenReader(filepath.Join(s.Path, name)); err != nil {
			s.unread(e, filepath.Join(s.Path, name), err)
		} else {
			_ = f.Close() // opened for reading
		}
	}
	for _, stray := range plainsecrets.InPlaces(e.station, config, s.leaveOut(e)...) {
		s.mark(strayCodes[stray.Sort], untrusted.Clean(stray.At), e.tilde(stray.File), stray.Line, "")
	}
}

// strayCodes are the rules for the kinds of places where secrets stand.
var strayCodes = map[plainsecrets.Sort]string{
	plainsecrets.CredentialFile: policy.SecretInPlainFile,
	plainsecrets.Netrc:          policy.SecretInPlainFile,
	plainsecrets.RemoteURL:      policy.SecretInURL,
	plainsecrets.Header:         policy.SecretInHeader,
	plainsecrets.Environment:    policy.SecretInEnvironment,
	plainsecrets.History:        policy.SecretInHistory,
}

// leaveOut are the places that the policy does not want to be read: what somebody typed is theirs, unless it says so.
func (s *seen) leaveOut(e eyes) []plainsecrets.Sort {
	var out []plainsecrets.Sort
	for sort, code := range strayCodes {
		if e.policy.Rule(code).Level == policy.Off {
			out = append(out, sort)
		}
	}
	return out
}

// judgeGit finds the settings of git's that give trust or secrets away.
func (s *seen) judgeGit(e eyes, config *gitlink.Config) {
	for _, entry := range config.Every() {
		at := e.tilde(entry.Origin)
		name := entry.Key[strings.LastIndexByte(entry.Key, '.')+1:]
		section, _, _ := strings.Cut(entry.Key, ".")
		checked, isTruth := gitlink.Truth(entry.Value)
		words := strings.Fields(entry.Value)
		switch {
		case section == "http" && name == "sslverify" && isTruth && !checked:
			s.mark(policy.TLSUnchecked, untrusted.Clean(entry.Key), at, entry.Line(), "")
		case section == "credential" && name == "helper" && len(words) > 0 && words[0] == "store":
			s.mark(policy.HelperPlain, untrusted.Clean(entry.Key), at, entry.Line(), "")
		}
	}
	if entry, set := config.Last("core.sshcommand"); set {
		for _, option := range config.SSH().Line.Options {
			if len(option.Args) > 0 && isBlind(option.Keyword, option.Args[0]) {
				s.mark(policy.TrustBlind, entry.Key, e.tilde(entry.Origin), entry.Line(), option.Keyword)
			}
		}
	}
}

// hosts compares the descriptions and the stored keys of hosts with the administrator's.
func (s *seen) hosts(e eyes, lines []sshconfig.SetLine) {
	mine := *e.station
	mine.Machine = nowhere
	own := &hosts.Registry{}
	if registry, err := hosts.Open(&mine); err != nil {
		s.unlisted(e, e.station.Config, err)
	} else {
		own = registry
	}
	all := slices.Clone(own.Hosts)
	for _, d := range e.managed {
		if i := slices.IndexFunc(own.Hosts, func(o *describe.Description) bool { return sameHost(o, d) }); i >= 0 {
			if !own.Hosts[i].IsLearned() {
				s.mark(policy.DescriptionDiffers, untrusted.Clean(d.Name), e.tilde(e.station.Config), 0, d.Managed)
			}
			continue
		}
		all = append(all, d)
	}
	for _, d := range all {
		s.Hosts = append(s.Hosts, Host{Name: untrusted.Clean(d.Name), At: hostAt(d), Managed: d.Managed != ""})
	}
	s.storedKeys(e, all, lines)
}

func sameHost(a, b *describe.Description) bool {
	return a.Name == b.Name || a.HasSSH() && b.HasSSH() && strings.EqualFold(a.SSH.Host, b.SSH.Host)
}

func hostAt(d *describe.Description) string {
	if d.HasSSH() {
		return untrusted.Clean(d.HostName())
	}
	return untrusted.Clean(d.HTTPSAt())
}

// storedKeys reads the keys of hosts that ssh knows in this home.
func (s *seen) storedKeys(e eyes, described []*describe.Description, lines []sshconfig.SetLine) {
	files := []string{filepath.Join(e.station.SSHDir(), "known_hosts"), filepath.Join(e.station.SSHDir(),
		"known_hosts2")}
	for _, l := range lines {
		if l.Keyword == "userknownhostsfile" {
			for _, arg := range l.Args {
				if path := e.station.KeyPath(arg); !slices.Contains(files, path) && arg != "none" &&
					arg != "/dev/null" {
					files = append(files, path)
				}
			}
		}
	}
	var entries []knownhosts.Skimmed
	for _, file := range files {
		text, err := regular.Read(file, regular.Settings)
		s.unread(e, file, err)
		entries = append(entries, knownhosts.Skim(file, text)...)
	}
	s.Stored = len(entries)
	s.distrusted(e, entries)
	for _, d := range described {
		s.judgeStored(e, d, entries)
	}
	s.undeclared(e, described, entries)
}

// sshPort is where ssh is reached unless something else is said (RFC 4253, section 4.1).
const sshPort = 22

// judgeStored compares what is stored for a host with what its description publishes.
func (s *seen) judgeStored(e eyes, d *describe.Description, lines []knownhosts.Skimmed) {
	published := slices.Clone(d.SSH.Fingerprints)
	for _, key := range d.StaticKeys() {
		published = append(published, sshkey.Fingerprint(key))
	}
	if !d.HasSSH() || len(published) == 0 {
		return
	}
	name := sshconfig.HostPort(d.HostName(), cmp.Or(d.SSH.Port, sshPort))
	var other *knownhosts.Entry
	for _, line := range lines {
		if line.Marker != knownhosts.Plain || !line.Matches(name) {
			continue
		}
		entry, ok := line.Whole()
		if !ok {
			continue
		}
		if slices.Contains(published, sshkey.Fingerprint(entry.Key)) {
			return
		}
		other = &entry
	}
	if other != nil {
		s.mark(policy.HostKeyDiffers, untrusted.Clean(d.Name), e.tilde(other.File), other.Line,
			sshkey.Fingerprint(other.Key))
	}
}

// distrusted finds stored keys of hosts that the administrator distrusts.
func (s *seen) distrusted(e eyes, lines []knownhosts.Skimmed) {
	for _, d := range e.applied.Distrust {
		blob := knownhosts.Blob(d.Key)
		for _, line := range lines {
			if line.Marker != knownhosts.Plain || !line.Holds(blob) {
				continue
			}
			if entry, ok := line.Whole(); ok && bytes.Equal(entry.Key.Marshal(), d.Key.Marshal()) {
				s.mark(policy.HostKeyDistrusted, untrusted.Clean(entry.Hosts), e.tilde(entry.File), entry.Line, d.Why)
			}
		}
	}
}

// undeclared finds the stored names of hosts that nobody described. Hashed names do not tell.
func (s *seen) undeclared(e eyes, described []*describe.Description, entries []knownhosts.Skimmed) {
	if e.policy.Rule(policy.HostUndeclared).Level == policy.Off {
		return
	}
	known := map[string]bool{}
	for _, d := range described {
		if d.HasSSH() {
			known[strings.ToLower(d.SSH.Host)] = true
		}
	}
	for _, entry := range entries {
		for _, name := range strings.Split(entry.Hosts, ",") {
			name, _, _ = strings.Cut(strings.TrimPrefix(name, "["), "]")
			if entry.Marker != knownhosts.Plain || strings.ContainsAny(name, "*?!|") || known[strings.ToLower(name)] {
				continue
			}
			known[strings.ToLower(name)] = true
			s.mark(policy.HostUndeclared, untrusted.Clean(name), e.tilde(entry.File), entry.Line, "")
		}
	}
}

// machine is what the machine's own files say for everybody, and whether they are as a state left them.
func machine(station *workstation.Station, at apply.Places) (s seen, err error) {
	e := eyes{station: station}
	lines, _ := sshconfig.Lines(sshconfig.Query{Person: sshconfig.Person{Home: nowhere, System: at.SSH,
		Getenv: func(string) string { return "" }}})
	s.judgeLines(e, lines)
	if config, err := gitlink.ReadMachine(station, at.Git); err == nil {
		s.judgeGit(e, config)
	}
	deviations, err := apply.Deviations(station, at)
	for _, d := range deviations {
		switch {
		case d.Overruled:
			s.mark(policy.StateOverruled, untrusted.Clean(d.Name), untrusted.Clean(d.By), d.Line, d.Path)
		case d.Part == apply.Policy:
			s.mark(policy.PolicyDiffers, "", d.Path, 0, "")
		default:
			s.mark(policy.StateDiffers, "", d.Path, 0, "")
		}
	}
	return s, err
}
