package sshconfig

import (
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"anchorage.example/unicrux/agreement"
)

// everyOption has, for each keyword of the client, values in the spellings that it takes.
var everyOption = map[string][]string{
	"AddKeysToAgent": {"yes", "no", "ask", "1h", "confirm 5m"}, "AddressFamily": {"any", "inet", "inet6"},
	"BatchMode":   {"yes", "no"},
	"BindAddress": {"127.0.0.1"}, "BindInterface": {"lo"}, "CanonicalDomains": {"tidewater.example saltmarsh.example"},
	"CanonicalizeFallbackLocal": {"yes", "no"}, "CanonicalizeHostname": {"yes", "no", "always", "none"},
	"CanonicalizeMaxDots": {"0", "3"}, "CASignatureAlgorithms": {"ssh-ed25519", "+ssh-rsa", "-rsa*", "^rsa-sha2-256"},
	"CertificateFile": {"~/.ssh/c-cert.pub", "/a/b"}, "CheckHostIP": {"yes", "no"},
	"Ciphers":             {"aes256-ctr", "-aes*", "^aes256-ctr", "aes256-ctr,aes128-ctr"},
	"ClearAllForwardings": {"yes", "no"}, "Compression": {"yes", "no"}, "ConnectionAttempts": {"4"},
	"ConnectTimeout": {"5", "1m", "none"},
	"ControlMaster":  {"yes", "no", "ask", "auto", "autoask"}, "ControlPath": {"~/.ssh/cm-%C", "none"},
	"ControlPersist": {"yes", "no", "10m", "0"},
	"DynamicForward": {"1080", "127.0.0.1:1080"}, "EnableEscapeCommandline": {"yes", "no"},
	"EnableSSHKeysign": {"yes", "no"}, "EscapeChar": {"none", "~", "%"},
	"ExitOnForwardFailure": {"yes", "no"}, "FingerprintHash": {"md5", "sha256"},
	"ForwardAgent": {"yes", "no", "/a/sock", "$SSH_AUTH_SOCK"},
	"ForwardX11":   {"yes", "no"}, "ForwardX11Timeout": {"0", "1h"}, "ForwardX11Trusted": {"yes", "no"},
	"GatewayPorts":         {"yes", "no"},
	"GlobalKnownHostsFile": {"/a /b", "none"}, "GSSAPIAuthentication": {"yes", "no"}, "HashKnownHosts": {"yes", "no"},
	"HostbasedAcceptedAlgorithms": {"ssh-ed25519", "+ssh-rsa"}, "HostbasedAuthentication": {"yes", "no"},
	"HostKeyAlgorithms": {"ssh-ed25519", "+ssh-rsa", "-ssh-ed25519*", "^rsa-sha2-512"}, "HostKeyAlias": {"Foo"},
	"IdentitiesOnly": {"yes", "no", "true"},
	"IdentityAgent":  {"none", "SSH_AUTH_SOCK", "~/a.sock", "/x/%u"},
	"IdentityFile":   {"~/.ssh/x", "none", "%d/x", `"/with space/%h"`},
	"IPQoS":          {"none", "lowdelay", "ef cs1", "0x10"}, "KbdInteractiveAuthentication": {"yes", "no"},
	"KbdInteractiveDevices": {"pam"},
	"KexAlgorithms":         {"curve25519-sha256", "-curve*", "^ecdh-sha2-nistp256"},
	"KnownHostsCommand":     {"/bin/true  %H", "none"}, "LocalCommand": {"echo %h  x", `echo "a b"`},
	"LocalForward": {"8080 db:80", "127.0.0.1:8080 db:80", "/a/s /b/s"}, "LogLevel": {"QUIET", "info", "DEBUG2"},
	"LogVerbose": {"kex.c:*:1000", "none"},
	"MACs":       {"hmac-sha2-256", "-hmac*", "^hmac-sha2-512"}, "NoHostAuthenticationForLocalhost": {"yes", "no"},
	"NumberOfPasswordPrompts": {"1"},
	"PasswordAuthentication":  {"yes", "no"}, "PermitLocalCommand": {"yes", "no"},
	"PermitRemoteOpen": {"any", "none", "a:1 b:2"}, "PKCS11Provider": {"/a.so"},
	"Port": {"2222", "22"}, "PreferredAuthentications": {"publickey,password"},
	"ProxyCommand": {"nc  %h %p", "none", "ssh -W %h:%p j"},
	"ProxyJump":    {"a,b@c:22", "none", "ssh://u@j:3"}, "ProxyUseFdpass": {"yes", "no"},
	"PubkeyAcceptedAlgorithms": {"+ssh-rsa", "ssh-ed25519"},
	"PubkeyAcceptedKeyTypes":   {"ssh-ed25519"}, "PubkeyAuthentication": {"yes", "no", "unbound"},
	"RekeyLimit": {"1G 1h", "default none"}, "RemoteCommand": {"ls  -l", "none"},
	"RemoteForward": {"8080 db:80", "1080", "127.0.0.1:9 /b"}, "RequestTTY": {"yes", "no", "force", "auto"},
	"RequiredRSASize": {"2048"}, "RevokedHostKeys": {"/a/r", "none"},
	"SecurityKeyProvider": {"internal", "/x.so"}, "SendEnv": {"LANG LC_*", "FOO"}, "ServerAliveCountMax": {"5"},
	"ServerAliveInterval": {"30", "1m"},
	"SessionType":         {"none", "subsystem", "default"}, "SetEnv": {"A=b C=d", `X="y z"`},
	"StdinNull":             {"yes", "no"},
	"StreamLocalBindMask":   {"0177", "022"},
	"StreamLocalBindUnlink": {"yes", "no"}, "StrictHostKeyChecking": {"yes", "no", "accept-new"},
	"SyslogFacility": {"AUTH", "local3"}, "TCPKeepAlive": {"yes", "no"},
	"Tunnel": {"yes", "no", "ethernet"}, "TunnelDevice": {"1:2", "any:3", "5"}, "UpdateHostKeys": {"yes", "no", "ask"},
	"User":               {"me", `"me"`},
	"UserKnownHostsFile": {"~/a /b", "none"}, "VerifyHostKeyDNS": {"yes", "no", "ask"}, "VisualHostKey": {"yes", "no"},
	"XAuthLocation":                   {"/x"},
	"ChallengeResponseAuthentication": {"no"}, "KeepAlive": {"no"},
}

// option writes one line of any keyword.
func (g *generator) option() string {
	keywords := make([]string, 0, len(everyOption))
	for keyword := range everyOption {
		keywords = append(keywords, keyword)
	}
	slices.Sort(keywords) // the order of a map changes from run to run
	keyword := g.pick(keywords...)
	return g.pick("", "  ") + g.pick(keyword, strings.ToLower(keyword)) + g.pick(" ", "=",
		"\t") + g.pick(everyOption[keyword]...)
}

// TestEveryOptionAgrees lets the client print what it makes of generated files, and what it
// makes of our reading of them: all options, to the letter.
func TestEveryOptionAgrees(t *testing.T) {
	t.Parallel()
	tally := agreement.Of(t, "ssh: every option, to the letter")
	for seed := range rounds() / 2 {
		dir := t.TempDir()
		g := &generator{Rand: rand.New(rand.NewPCG(uint64(seed), 11)), dir: dir, every: true}
		path := filepath.Join(dir, "config")
		if err := os.WriteFile(path, []byte(g.config(0)+g.config(0)), 0o600); err != nil {
			t.Fatal(err)
		}
		host := g.pick("forge", "forge.tidewater.example", "git.saltmarsh.example", "Forge", "lantern")
		want, err := exec.Command("ssh", "-G", "-F", path, host).Output()
		if err != nil {
			continue // the other comparison looks at what is refused
		}
		s := Resolve(Query{Host: host, Command: CommandLine{Config: path}, Person: person(t)})
		flat := filepath.Join(dir, "flat")
		if err := os.WriteFile(flat, s.Flat(), 0o600); err != nil {
			t.Fatal(err)
		}
		got, err := exec.Command("ssh", "-G", "-F", flat, host).Output()
		ours, theirs := once(got), once(want)
		tally.Case(err == nil && ours == theirs, "seed %d, host %s: %v\n%s\n%s", seed, host, err,
			firstDifference(ours, theirs), show(dir))
	}
}

// once takes out lines that stand twice: in its second pass the client adds SendEnv once more.
func once(printed []byte) string {
	seen := map[string]bool{}
	var b strings.Builder
	for line := range strings.Lines(string(printed)) {
		if !seen[line] {
			b.WriteString(line)
		}
		seen[line] = true
	}
	return b.String()
}

func firstDifference(got, want string) string {
	a, b := strings.Split(got, "\n"), strings.Split(want, "\n")
	for i := range min(len(a), len(b)) {
		if a[i] != b[i] {
			return "ours:   " + a[i] + "\nclient: " + b[i]
		}
	}
	return "one is longer"
}

// TestCanonicalNames goes on with the name that exists, and reads the blocks that are for it.
func TestCanonicalNames(t *testing.T) {
	t.Parallel()
	const config = "CanonicalizeHostname %s\nCanonicalDomains a.example b.example\nHost forge.b.example\n  Port 77\nMatch canonical\n  User second\n"
	for _, row := range []struct{ mode, host, more, name, port string }{
		{"yes", "forge", "", "forge.b.example", "77"},
		{"yes", "Forge", "", "forge.b.example", "77"},
		{"no", "forge", "", "forge", ""},
		{"yes", "none", "", "none", ""},
		{"yes", "forge.b.example", "", "forge.b.example", "77"}, // too many dots, but its block matches
		{"yes", "forge", "ProxyJump jump\n", "forge", ""},
		{"always", "forge", "ProxyJump jump\n", "forge.b.example", "77"},
		{"yes", "forge", "CanonicalizeMaxDots 0\n", "forge.b.example", "77"},
		{"yes", "10.0.0.1", "", "10.0.0.1", ""},
		{"yes", "forge", "CanonicalizePermittedCNAMEs *.b.example:*.c.example\n", "node7.c.example", ""},
		{"yes", "forge", "CanonicalizePermittedCNAMEs *.b.example:*.d.example *.a.example:*.c.example\n",
			"forge.b.example", "77"},
		{"yes", "forge", "CanonicalizePermittedCNAMEs *.b.example:*.d.example,NODE*.c.example\n",
			"node7.c.example", ""},
		{"yes", "forge", "CanonicalizePermittedCNAMEs none\n", "forge.b.example", "77"},
		{"no", "forge", "CanonicalizePermittedCNAMEs *:*\n", "forge", ""},
		{"yes", "plain.d.example", "CanonicalizePermittedCNAMEs *.d.example:*.c.example\n", "node8.c.example", ""},
		{"yes", "forge", "CanonicalDomains none b.example\n", "forge", ""},
	} {
		path := filepath.Join(t.TempDir(), "config")
		if err := os.WriteFile(path, []byte(row.more+strings.Replace(config, "%s", row.mode, 1)), 0o600); err != nil {
			t.Fatal(err)
		}
		s := Resolve(Query{Host: row.host, Command: CommandLine{Config: path}, Person: person(t),
			Exists: func(name string) (string, bool) {
				alias, found := map[string]string{"forge.b.example": "node7.c.example.",
					"plain.d.example": "node8.c.example."}[name]
				return alias, found
			}})
		port, _, _ := s.First("port")
		user, _, _ := s.First("user")
		if name := s.Client().HostName; name != row.name || port != row.port ||
			(user == "second") != (row.mode != "no") {
			t.Errorf("%s %s %q: %s, port %q, user %q", row.mode, row.host, row.more, name, port, user)
		}
	}
}
