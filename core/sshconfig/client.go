package sshconfig

import (
	"crypto/sha1" // what the client uses for %C, which only names files
	"encoding/hex"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"anchorage.example/unicrux/core/allow"
)

// A Client is what the ssh client would do for one host, as far as we go the same way.
type Client struct {
	HostName   string // to connect to, in lower case
	Port       int
	User       string
	Identities []Identity // keys to offer, in order
	CertFiles  []Identity // certificates that settings name, in order; none means those beside the keys
	OnlyThose  bool       // IdentitiesOnly: none of the agent's other keys
	Agent      string     // socket of the agent; empty for none
	KeySignIn  bool       // PubkeyAuthentication and PreferredAuthentications
	Family     string     // AddressFamily: any, inet or inet6

	KnownHostsName string   // the name under which the host's key is looked up
	KnownHosts     []string // the person's files, in order
	SystemHosts    []string // the system's files
	RevokedHosts   string   // the file of host keys that are never trusted; empty for none
	Strict         string   // StrictHostKeyChecking: yes, ask, accept-new or no
	ProxyCommand   string   // a command to connect through, tokens replaced; empty for none
	ProxyJump      string   // hosts to connect through; empty for none
	ControlPath    string   // the socket of a shared connection that ssh would make; empty for none

	origins map[string]Origin
}

// An Identity is a key file that the settings name.
type Identity struct {
	Path    string
	Origin  Origin
	Default bool // one of the files that are tried when none is named
}

// Origin tells where the value of a keyword stands; the zero Origin means the default.
func (c *Client) Origin(keyword string) Origin { return c.origins[keyword] }

// defaultIdentities are tried when no IdentityFile is set, in the client's order.
var defaultIdentities = []string{"id_rsa", "id_ecdsa", "id_ecdsa_sk", "id_ed25519", "id_ed25519_sk",
	"id_xmss", "id_dsa"}

// Client turns the settings into what the client does with them, tokens replaced.
func (s *Settings) Client() *Client {
	c := &Client{origins: map[string]Origin{}}
	for keyword, values := range s.values {
		c.origins[keyword] = values[0].Origin
	}
	c.HostName = s.Query.Host
	if name, _, found := s.First("hostname"); found {
		c.HostName = expandHostName(name, s.Query.Host)
	}
	c.HostName = allow.LowerHost(c.HostName)
	c.Port, _ = strconv.Atoi(s.or("port", "22"))
	c.User = s.or("user", s.Query.Person.User)
	c.setProxy(s)
	t := s.tokens(c)
	c.OnlyThose = isYes(s.or("identitiesonly", "no"))
	c.KeySignIn = !isNo(s.or("pubkeyauthentication", "yes")) &&
		slices.Contains(strings.Split(s.or("preferredauthentications", "publickey"), ","), "publickey")
	c.Agent = s.agent(t)
	c.Identities, c.CertFiles = s.identities(t), s.certificates(t)
	c.setTrust(s, t)
	c.Family = strings.ToLower(s.or("addressfamily", "any"))
	if c.ProxyCommand != "" {
		c.ProxyCommand = s.command(t, c.ProxyCommand)
	}
	if path := s.or("controlpath", "none"); !strings.EqualFold(path, "none") && !isNo(s.or("controlmaster", "no")) {
		c.ControlPath = t.path(path)
	}
	return c
}

func (c *Client) setTrust(s *Settings, t tokens) {
	home := filepath.Join(s.Query.Person.Home, ".ssh")
	system := s.Query.Person.systemFolder()
	c.KnownHosts = s.paths("userknownhostsfile", t, filepath.Join(home, "known_hosts"),
		filepath.Join(home, "known_hosts2"))
	c.SystemHosts = s.paths("globalknownhostsfile", t, filepath.Join(system, "ssh_known_hosts"),
		filepath.Join(system, "ssh_known_hosts2"))
	if path := s.or("revokedhostkeys", "none"); !strings.EqualFold(path, "none") {
		c.RevokedHosts = s.Query.Person.tilde(path)
	}
	c.Strict = strings.ToLower(s.or("stricthostkeychecking", "ask"))
	switch c.Strict {
	case "off", "false":
		c.Strict = "no"
	case "true":
		c.Strict = "yes"
	}
	c.KnownHostsName = s.or("hostkeyalias", "")
	if c.KnownHostsName == "" {
		c.KnownHostsName = HostPort(c.HostName, c.Port)
	}
}

// setProxy settles ProxyCommand and ProxyJump, of which the one that is read first counts. A jump to none keeps
// further jumps away, and no command.
func (c *Client) setProxy(s *Settings) {
	commands, jumps := s.All("proxycommand"), s.All("proxyjump")
	none := len(jumps) > 0 && strings.EqualFold(jumps[0].Args[0], "none") &&
		(jumps[0].rest == "" || strings.EqualFold(strings.TrimSpace(jumps[0].rest), "none"))
	if len(commands) > 0 && (len(jumps) == 0 || none || commands[0].turn < jumps[0].turn) {
		command := strings.TrimSpace(commands[0].rest) // with what would be a comment elsewhere
		if command == "" {
			command = strings.Join(commands[0].Args, " ")
		}
		if !strings.EqualFold(command, "none") {
			c.ProxyCommand = command
		}
		return
	}
	if len(jumps) > 0 && !none {
		c.ProxyJump = jumps[0].Args[0]
	}
}

// identities lists the key files: those named, or else the default ones.
func (s *Settings) identities(t tokens) []Identity {
	var list []Identity
	seen := map[string]bool{}
	for _, value := range s.All("identityfile") {
		if path := t.path(value.Args[0]); !strings.EqualFold(value.Args[0], "none") && !seen[path] {
			seen[path] = true
			list = append(list, Identity{Path: path, Origin: value.Origin})
		}
	}
	if len(s.All("identityfile")) > 0 {
		return list
	}
	for _, name := range defaultIdentities {
		path := filepath.Join(s.Query.Person.Home, ".ssh", name)
		list = append(list, Identity{Path: path, Default: true, Origin: Origin{Words: "ssh's own default"}})
	}
	return list
}

// certificates lists the files that CertificateFile names.
func (s *Settings) certificates(t tokens) []Identity {
	var list []Identity
	for _, value := range s.All("certificatefile") {
		if !strings.EqualFold(value.Args[0], "none") {
			list = append(list, Identity{Path: t.path(value.Args[0]), Origin: value.Origin})
		}
	}
	return list
}

// agent finds the socket of the agent that the client would ask ("IdentityAgent" in [CONF]).
func (s *Settings) agent(t tokens) string {
	switch value := s.or("identityagent", "SSH_AUTH_SOCK"); {
	case value == "none":
		return ""
	case value == "SSH_AUTH_SOCK":
		return s.Query.Person.Getenv("SSH_AUTH_SOCK")
	case strings.HasPrefix(value, "$") && !strings.HasPrefix(value, "${"):
		return s.Query.Person.Getenv(value[1:])
	default:
		return t.path(value)
	}
}

func (s *Settings) paths(keyword string, t tokens, defaults ...string) []string {
	values := s.All(keyword)
	if len(values) == 0 {
		return defaults
	}
	var list []string
	for _, arg := range values[0].Args {
		if !strings.EqualFold(arg, "none") {
			list = append(list, t.path(arg))
		}
	}
	return list
}

func (s *Settings) or(keyword, otherwise string) string {
	if value, _, found := s.First(keyword); found {
		return value
	}
	return otherwise
}

// HostPort writes a name for known hosts: alone for port 22, else "[name]:port" (sshd(8),
// SSH_KNOWN_HOSTS FILE FORMAT).
func HostPort(name string, port int) string {
	if port == 22 {
		return name
	}
	return "[" + name + "]:" + strconv.Itoa(port)
}

func isYes(text string) bool {
	return strings.EqualFold(text, "yes") || strings.EqualFold(text, "true")
}
func isNo(text string) bool { return strings.EqualFold(text, "no") || strings.EqualFold(text, "false") }

// tokens are the "%" sequences of TOKENS in [CONF].
type tokens struct {
	person Person
	values map[byte]string
}

func (s *Settings) tokens(c *Client) tokens {
	p := s.Query.Person
	short, _, _ := strings.Cut(p.Computer, ".")
	port := strconv.Itoa(c.Port)
	digest := sha1.Sum([]byte(p.Computer + c.HostName + port + c.User + c.ProxyJump))
	return tokens{person: p, values: map[byte]string{
		'%': "%", 'C': hex.EncodeToString(digest[:]), 'd': p.Home, 'h': c.HostName, 'i': strconv.Itoa(p.UID),
		'k': s.or("hostkeyalias", s.Query.Host), 'L': short, 'l': p.Computer, 'n': s.Query.Host,
		'p': port, 'r': c.User, 'u': p.User, 'j': c.ProxyJump,
	}}
}

// path expands "~", "${VARIABLE}" and tokens in a file name.
func (t tokens) path(text string) string {
	text = t.person.tilde(text)
	var b strings.Builder
	for {
		before, rest, found := strings.Cut(text, "${")
		name, after, closed := strings.Cut(rest, "}")
		if !found || !closed {
			b.WriteString(text)
			return filepath.FromSlash(t.expand(b.String()))
		}
		b.WriteString(before + t.person.Getenv(name))
		text = after
	}
}

// refused stands for a command that the client would never run, because it refuses the user or the
// host that it was given (main in ssh.c of OpenSSH). It fails.
const refused = "exit 255"

// command is a command with its tokens replaced, as a shell gets it.
func (s *Settings) command(t tokens, text string) string {
	for _, option := range s.Query.Command.Options {
		if option.Keyword == "user" && !allow.RemoteUser(strings.Join(option.Args, " ")) {
			return refused
		}
	}
	if !allow.RemoteHost(s.Query.Host) {
		return refused
	}
	return t.expand(text)
}

// KnownHostsCommand is the command that tells of a host's keys, with its tokens replaced, as words; nothing where there
// is none. It is told the name that is looked up, and the type, the text and the fingerprint of the key.
func (s *Settings) KnownHostsCommand(name, kind, text, fingerprint string) []string {
	values := s.All("knownhostscommand")
	if len(values) == 0 || strings.EqualFold(values[0].Args[0], "none") {
		return nil
	}
	words, err := splitArgs(values[0].Text())
	if err != nil || len(words) == 0 {
		return nil
	}
	t := s.tokens(s.Client())
	for token, value := range map[byte]string{'H': name, 'I': "HOSTNAME", 't': kind, 'K': text, 'f': fingerprint} {
		t.values[token] = value
	}
	for i, word := range words {
		words[i] = t.expand(word)
	}
	return words
}

func (t tokens) expand(text string) string {
	var b strings.Builder
	for i := 0; i < len(text); i++ {
		if text[i] != '%' || i+1 == len(text) {
			b.WriteByte(text[i])
			continue
		}
		i++
		if value, found := t.values[text[i]]; found {
			b.WriteString(value)
		} else {
			b.WriteByte('%')
			b.WriteByte(text[i])
		}
	}
	return b.String()
}

// expandHostName replaces the two tokens that HostName takes.
func expandHostName(name, host string) string {
	if !strings.Contains(name, "%") {
		return name
	}
	return strings.NewReplacer("%%", "%", "%h", host).Replace(name)
}

// tilde replaces "~/" by the home folder of the password database, and "~name/" by another's.
func (p Person) tilde(path string) string {
	if path == "~" {
		return p.Home
	}
	if rest, found := strings.CutPrefix(path, "~/"); found {
		return filepath.Join(p.Home, rest)
	}
	name, rest, _ := strings.Cut(strings.TrimPrefix(path, "~"), "/")
	if strings.HasPrefix(path, "~") && name != "" {
		if other, err := user.Lookup(name); err == nil {
			return filepath.Join(other.HomeDir, rest)
		}
	}
	return path
}
