package acceptance

import (
	"crypto/tls"
	"encoding/base64"
	"encoding/pem"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"
)

// descriptionAttacks are those of whoever writes a description that a person adds.
var descriptionAttacks = []attack{
	{"a description writes commands into ssh's settings", func(p *person) (broken []string) {
		p.withForge()
		for name, address := range map[string]string{"lines": `::1%h\nHost\r*\nProxyCommand\rtouch `,
			"a zone": `::1%h`, "a tab": `::1%\tProxyCommand true`} {
			mark := p.path("ran")
			file := p.replaceIn("evil.toml", `name = "forge"`, `name = "evil"`, `host = "forge.tidewater.example"`,
				`host = "evil.example"`, `address = "127.0.0.1"`, `address = "`+address+mark+`"`)
			if r := p.unicrux("host", "add", file, "--yes"); r.exit == 0 {
				broken = append(broken, name+": added")
			}
			p.run("", "ssh", "-F", p.path(".ssh", "config"), "-o", "BatchMode=yes", "-o", "ConnectTimeout=2",
				"127.0.0.1", "true")
			if p.exists("ran") {
				broken = append(broken, name+": the command ran")
			}
		}
		for _, address := range []string{"::1%h", "::1%a\nHost *", "fe80::1%eth0", "a b"} {
			if r := p.unicrux("host", "set", "forge", "address="+address); r.exit != 2 {
				broken = append(broken, "host set address="+address+": "+r.String())
			}
		}
		return broken
	}},
	{"a description paints over what is to be compared", func(p *person) (broken []string) {
		p.withForge()
		for _, text := range []string{`\u001b[2J`, `\u001b]52;c;eA==\u0007`, `\u202e`, `a\rb`, `a\nb`} {
			file := p.replaceIn("evil.toml", `name = "forge"`, "name = \"forge\"\ntitle = \"x\"", `[ssh]`,
				"[[refusals]]\ntext = \"x"+text+"\"\nmeans = \"x\"\n[ssh]")
			if r := p.unicrux("host", "add", file, "--yes"); r.exit == 0 ||
				strings.ContainsAny(r.out+r.err, "\x1b\a\r\u202e") {
				broken = append(broken, fmt.Sprintf("%s: %q", text, r))
			}
		}
		return broken
	}},
	{"a second description takes another's token", func(p *person) (broken []string) {
		p.withForge()
		token := p.token()
		sink := newSink(p)
		api := "https://" + p.webHost() + "/"
		for name, pairs := range map[string][]string{
			"its interface": {`host = "forge.tidewater.example"`, `host = "evil.example"`},
			"its clone URLs": {`host = "forge.tidewater.example"`, `host = "evil.example"`,
				"[interface]\nurl = \"" + api, "[interface]\nurl = \"https://evil.example/"},
		} {
			file := p.replaceIn("evil.toml", append(pairs, `name = "forge"`, `name = "evil"`,
				`address = "127.0.0.1"`, `address = "127.0.0.2"`)...)
			r := p.unicrux("host", "add", file, "--yes")
			if r.exit != 1 || !strings.Contains(r.err, "named by the description forge already") {
				broken = append(broken, name+" was added: "+r.String())
			}
			// Put there by whoever may write in that folder, it is not believed either.
			p.write(p.read("evil.toml"), ".config", "unicrux", "hosts", "evil.toml")
			p.unicrux("repo", "list", "evil")
			p.unicrux("key", "compare", "evil")
			p.unicrux("host", "set", "evil", "by=https")
			p.remove(".config", "unicrux", "hosts", "evil.toml")
		}
		if sink.got(token) {
			broken = append(broken, "the token went there")
		}
		if r := p.asGit(p.webHost()); !strings.Contains(r.out, token) {
			broken = append(broken, "git gets it no more: "+r.String())
		}
		return broken
	}},
	{"the description is replaced by one that leads elsewhere", func(p *person) (broken []string) {
		p.withForge()
		token := p.token()
		sink := newSink(p)
		file := p.replaceIn("evil.toml", `address = "127.0.0.1"`, `address = "127.0.0.2"`)
		p.write(withAuthority(p.read("evil.toml"), sink.authority), "evil.toml")
		before := p.read(".config", "unicrux", "hosts", "forge.toml")
		if r := p.unicrux("host", "add", file); r.exit != 4 ||
			!strings.Contains(r.err, "New: Unicrux may send secrets to") || !strings.Contains(r.err, "127.0.0.2") ||
			p.read(".config", "unicrux", "hosts", "forge.toml") != before {
			broken = append(broken, "replaced unasked: "+r.String())
		}
		p.must("host", "add", file, "--yes") // a person who says yes to everything
		p.unicrux("host", "set", "forge", "by=https")
		p.unicrux("ready", "forge", "--by", "https", "--no-input")
		if r := p.asGit(p.webHost()); r.leaks(token) || !strings.Contains(r.err, "unicrux token test forge") {
			broken = append(broken, "git is answered: "+r.String())
		}
		for _, command := range [][]string{{"repo", "list", "forge"}, {"key", "compare", "forge"},
			{"token", "test", "forge"}, {"token", "renew", "forge"}, {"token", "revoke", "forge"},
			{"check", "forge", "--by", "https"}, {"check", p.cloneHTTPS("buoys/drift-model")},
			{"host", "test", "forge"}} {
			if r := p.unicrux(append(command, "--no-input")...); r.exit == 0 {
				broken = append(broken, strings.Join(command, " ")+": "+r.String())
			}
		}
		p.git("ls-remote", p.cloneHTTPS("buoys/drift-model"))
		if c := p.check(p.cloneHTTPS("buoys/drift-model")); c.Open || c.Crux.Code != "token-elsewhere" {
			broken = append(broken, fmt.Sprintf("the crux is %+v", c.Crux))
		}
		if sink.got(token) {
			broken = append(broken, "the token went there")
		}
		if !sink.asked() {
			broken = append(broken, "the attack did not reach its server, so it proves nothing")
		}
		return broken
	}},
	{"a page on which a code is confirmed runs a script", func(p *person) (broken []string) {
		for _, page := range []string{"javascript:alert(1)", "file:///etc/passwd", "http://forge.tidewater.example/",
			"https://x\x1b[2J/"} {
			sink := newSink(p)
			sink.answer = fmt.Sprintf(`{"device_code":"d","user_code":"AB-12","verification_uri":%q,"verification_uri_complete":%q,"expires_in":60,"interval":1}`, page, page)
			if r := sink.signIn(p); r.exit == 0 || strings.Contains(r.out+r.err, "AB-12") {
				broken = append(broken, page+": "+r.String())
			}
		}
		return broken
	}},
	{"a server wants to be asked at odd intervals", func(p *person) (broken []string) {
		for _, interval := range []string{"-1", "0.5", "9223372036854775807", "301", "1e99"} {
			sink := newSink(p)
			sink.answer = `{"device_code":"d","user_code":"AB-12","verification_uri":"https://evil.example/","expires_in":60,"interval":` + interval + `}`
			if r := sink.signIn(p); r.exit == 0 || strings.Contains(r.err, "goroutine") {
				broken = append(broken, interval+": "+r.String())
			}
		}
		return broken
	}},
}

// A sink is a server that answers anybody, and keeps what it was sent.
type sink struct {
	authority string // PEM
	port      int
	answer    string

	mu   sync.Mutex
	seen strings.Builder
}

// newSink serves on 127.0.0.2, at the port of the person's practice host if there is one, with a
// certificate of its own for everybody.
func newSink(p *person) *sink {
	p.t.Helper()
	s := &sink{answer: "{}"}
	der, key := p.certificate(-time.Hour, time.Hour, "forge.tidewater.example")
	port := "0"
	if p.host != nil {
		_, port, _ = net.SplitHostPort(p.webHost())
	}
	listener, err := net.Listen("tcp", "127.0.0.2:"+port)
	if err != nil {
		p.t.Fatal(err)
	}
	s.authority, s.port = string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})),
		listener.Addr().(*net.TCPAddr).Port
	server := &http.Server{ReadHeaderTimeout: time.Minute,
		TLSConfig: &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{der}, PrivateKey: key}}},
		Handler:   http.HandlerFunc(s.serve)}
	go func() { _ = server.ServeTLS(listener, "", "") }()
	p.t.Cleanup(func() { _ = server.Close() })
	return s
}

func (s *sink) serve(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	_ = r.ParseForm()
	fmt.Fprintf(&s.seen, "%s %v %v\n", r.URL, r.Header, r.Form)
	if user, word, ok := r.BasicAuth(); ok {
		fmt.Fprintf(&s.seen, "%s:%s\n", user, word)
	} else if strings.Contains(r.URL.Path, "info/refs") {
		w.Header().Set("WWW-Authenticate", `Basic realm="x"`)
		w.WriteHeader(http.StatusUnauthorized)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	_, _ = w.Write([]byte(s.answer))
}

// got tells whether a secret came, plain or as a part of a header for signing in.
func (s *sink) got(secret string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	text := s.seen.String()
	return strings.Contains(text, secret) ||
		strings.Contains(text, base64.StdEncoding.EncodeToString([]byte(secret))) ||
		strings.Contains(text, "Authorization:[B")
}

func (s *sink) asked() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.seen.Len() > 0
}

// signIn signs in at the sink by a code in a browser.
func (s *sink) signIn(p *person) result {
	p.t.Helper()
	at := fmt.Sprintf("https://forge.tidewater.example:%d/", s.port)
	p.withChest()
	name := fmt.Sprintf("evil%d", s.port)
	p.write(fmt.Sprintf("unicrux = 1\nname = %q\n[ssh]\nhost = \"%s.example\"\nuser = \"git\"\n[oauth]\nclient = \"unicrux\"\ndevice = %q\ntoken = %q\naddress = \"127.0.0.2\"\nauthority = \"\"\"\n%s\"\"\"\n", name, name, at+"d", at+"t", s.authority), "sign-in.toml")
	p.must("host", "add", p.path("sign-in.toml"), "--yes")
	return p.unicrux("token", "sign-in", name, "--chest-passphrase-from", p.path("chest-words"))
}

// withAuthority puts other certificates into a description.
func withAuthority(text, pem string) string {
	for {
		before, rest, found := strings.Cut(text, "-----BEGIN CERTIFICATE-----")
		_, after, closed := strings.Cut(rest, "-----END CERTIFICATE-----\n")
		if !found || !closed {
			return strings.ReplaceAll(text, "@PEM@", pem)
		}
		text = before + "@PEM@" + after
	}
}

// webAttacks are those of whoever runs a server that git is led to.
var webAttacks = []attack{
	{"a redirect takes a secret to another origin", func(p *person) (broken []string) {
		p.withForge()
		token := p.token()
		there := &sink{answer: ""}
		elsewhere := p.serverThat(there.serve)
		for name, program := range map[string]string{"git": "git", "Mercurial": "hg"} {
			here := p.serverThat(func(w http.ResponseWriter, r *http.Request) {
				target, _ := url.Parse(elsewhere)
				target.Path, target.RawQuery = strings.Replace(r.URL.Path, "/buoys/drift-model.git",
					"/buoys/drift-model.git", 1), r.URL.RawQuery
				http.Redirect(w, r, target.String(), http.StatusFound)
			})
			in := strings.Replace(here, "https://", "https://ines:tide-in-the-url@", 1)
			p.unicrux("check", in, "--program", program)
			p.unicrux("token", "test", "forge", "--url", here)
			p.mustGit("config", "--global", "http."+here+".extraHeader",
				"Authorization: Basic "+base64.StdEncoding.EncodeToString([]byte("ines:tide-in-a-header")))
			p.mustGit("config", "--global", "http.extraHeader", "PRIVATE-TOKEN: tide-for-everybody")
			p.unicrux("check", here, "--program", program)
			if there.got(token) || there.got("tide-in-the-url") || there.got("tide-in-a-header") ||
				there.got("tide-for-everybody") {
				broken = append(broken, name+": "+there.seen.String())
			}
			p.mustGit("config", "--global", "--unset-all", "http.extraHeader")
		}
		if !there.asked() {
			broken = append(broken, "nobody went there, so it proves nothing")
		}
		return broken
	}},
	{"a header with a secret goes out over plain http", func(p *person) (broken []string) {
		there := &sink{answer: ""}
		listener, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			p.t.Fatal(err)
		}
		server := &http.Server{ReadHeaderTimeout: time.Minute, Handler: http.HandlerFunc(there.serve)}
		go func() { _ = server.Serve(listener) }()
		p.t.Cleanup(func() { _ = server.Close() })
		at := fmt.Sprintf("http://127.0.0.1:%d/x.git", listener.Addr().(*net.TCPAddr).Port)
		p.mustGit("config", "--global", "http.extraHeader",
			"Authorization: Basic "+base64.StdEncoding.EncodeToString([]byte("ines:tide-in-a-header")))
		p.unicrux("check", at)
		p.unicrux("check", strings.Replace(at, "http://", "http://ines:tide-in-the-url@", 1))
		if there.got("tide-in-a-header") || there.got("tide-in-the-url") || !there.asked() {
			broken = append(broken, there.seen.String())
		}
		return broken
	}},
	{"the URL of one host is answered by another", func(p *person) (broken []string) {
		p.withForge()
		p.must("key", "new", "--host", "forge", "--no-passphrase")
		p.must("host", "trust", "forge")
		p.must("key", "register", "forge_ed25519", "forge", "--token-from", p.host.TokenFile())
		// Another host at the same address, of which nobody is at home.
		p.write(strings.NewReplacer(`name = "forge"`,
			`name = "saltmarsh"`).Replace(fmt.Sprintf("unicrux = 1\nname = \"forge\"\n[ssh]\nhost = \"git.saltmarsh.example\"\nuser = \"git\"\naddress = \"127.0.0.1\"\nport = %d\n", freePort(p.t))), "marsh.toml")
		p.must("host", "add", p.path("marsh.toml"))
		for _, url := range []string{"git@git.saltmarsh.example:buoys/drift-model.git",
			"git@forge.tidewater.exampl:buoys/drift-model.git", "git@forge.tidewater.exampel:buoys/drift-model.git"} {
			if r := p.unicrux("ready", url, "--yes", "--no-input", "--no-passphrase", "--into",
				"clone"); r.exit == 0 || p.exists("clone") {
				broken = append(broken, "ready "+url+": "+r.String())
			}
			p.mustGit("init", "--quiet", "work")
			p.folder = p.path("work")
			p.mustGit("remote", "add", "origin", url)
			p.unicrux("check", "--mend", "--yes", "--no-input", "--no-passphrase", "origin")
			if now := strings.TrimSpace(p.mustGit("remote", "get-url", "origin").out); now != url {
				broken = append(broken, "the remote was moved to "+now)
			}
			p.folder = p.home
			if err := os.RemoveAll(p.path("work")); err != nil {
				p.t.Fatal(err)
			}
		}
		return broken
	}},
	{"the clipboard's words go into a file", func(p *person) (broken []string) {
		p.withForge()
		token := p.token()
		for _, command := range [][]string{{"token", "show", "forge", "--copy"},
			{"card", "forge", "--by", "https", "--copy", "password"}, {"card", "forge", "--copy", "user"}} {
			r := p.run("", "setsid", append([]string{"--wait", program}, command...)...)
			if strings.Contains(r.out+r.err, "\x1b]52") ||
				r.leaks(token, base64.StdEncoding.EncodeToString([]byte(token))) {
				broken = append(broken, strings.Join(command, " ")+": "+r.String())
			}
		}
		return broken
	}},
	{"a secret stays in a log of what was done", func(p *person) (broken []string) {
		p.withForge()
		token := p.token()
		p.unicrux("check", p.cloneHTTPS("buoys/drift-model"), "--verbose")
		for _, command := range [][]string{{"look"}, {"token", "list"}, {"token", "show", "forge"}, {"chest", "show"},
			{"changes"}, {"check", p.cloneHTTPS("buoys/drift-model"), "--verbose"}, {"card", "forge"}} {
			for _, more := range []string{"--plain", "--json"} {
				if r := p.unicrux(append(command, more)...); r.leaks(token) {
					broken = append(broken, strings.Join(command, " ")+" shows it")
				}
			}
		}
		return append(broken, p.holding(token)...)
	}},
}

// holding lists the files of the home in which a secret stands, plain or in base64.
func (p *person) holding(secrets ...string) (files []string) {
	p.t.Helper()
	err := filepath.WalkDir(p.home, func(path string, entry os.DirEntry, err error) error {
		if err != nil || !entry.Type().IsRegular() {
			return err
		}
		text := p.read2(path)
		for _, secret := range secrets {
			for shift := range 3 { // base64 of it, wherever in a text it begins
				encoded := base64.StdEncoding.EncodeToString([]byte(strings.Repeat("x", shift) + secret))
				if strings.Contains(text, secret) ||
					strings.Contains(text, strings.TrimRight(encoded,
						"=")[(shift*8+5)/6:len(strings.TrimRight(encoded, "="))-1]) {
					files = append(files, strings.TrimPrefix(path, p.home+"/")+" holds it")
					return nil
				}
			}
		}
		return nil
	})
	if err != nil {
		p.t.Fatal(err)
	}
	return files
}
