package acceptance

import (
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"net"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"
)

// nginxConfig is a web server in front of git's own HTTP backend (git-http-backend(1)).
const nginxConfig = `daemon off; pid %[1]s/pid; error_log %[1]s/errors; %[2]s
events {}
http {
	access_log off;
	client_body_temp_path %[1]s/1; proxy_temp_path %[1]s/2; fastcgi_temp_path %[1]s/3; uwsgi_temp_path %[1]s/4; scgi_temp_path %[1]s/5;
	server {
		listen 127.0.0.1:%[3]d ssl;
		ssl_certificate %[1]s/cert.pem;
		ssl_certificate_key %[1]s/key.pem;
		auth_basic "the harbour";
		auth_basic_user_file %[1]s/users;
		%[4]s
		location ~ \.git/ {
			fastcgi_pass unix:%[1]s/socket;
			fastcgi_param SCRIPT_FILENAME %[5]s/git-http-backend;
			fastcgi_param REQUEST_METHOD $request_method;
			fastcgi_param QUERY_STRING $query_string;
			fastcgi_param CONTENT_TYPE $content_type;
			fastcgi_param CONTENT_LENGTH $content_length;
			fastcgi_param PATH_INFO $uri;
			fastcgi_param REMOTE_USER $remote_user;
			fastcgi_param GIT_HTTP_EXPORT_ALL "";
			fastcgi_param GIT_PROJECT_ROOT %[6]s;
		}
	}
}
`

// nginx starts a real one with more settings for its server, and returns the URL of a repository.
func (p *person) nginx(more string) string {
	p.t.Helper()
	core := strings.TrimSpace(p.mustGit("--exec-path").out)
	p.mustGit("init", "--quiet", "--bare", "--initial-branch", "main", p.path("given", "buoys", "drift-model.git"))
	p.mustGit("-C", p.path("given", "buoys", "drift-model.git"), "config", "http.receivepack", "true")
	der, key := p.certificate(-time.Hour, time.Hour, "forge.tidewater.example")
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		p.t.Fatal(err)
	}
	p.write(string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})), "nginx", "cert.pem")
	p.write(string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private})), "nginx", "key.pem")
	p.write("ines:{PLAIN}ebb-and-flow\n", "nginx", "users")
	port, user := freePort(p.t), ""
	if os.Geteuid() == 0 {
		user = "user root;"
	}
	p.write(fmt.Sprintf(nginxConfig, p.path("nginx"), user, port, more, core, p.path("given")), "nginx", "conf")
	p.background("fcgiwrap", "-s", "unix:"+p.path("nginx", "socket"))
	eventually(p.t, "fcgiwrap", func() bool { return p.exists("nginx", "socket") })
	p.background("nginx", "-c", p.path("nginx", "conf"), "-e", p.path("nginx", "errors"))
	eventually(p.t, "nginx", func() bool {
		conn, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err == nil {
			_ = conn.Close()
		}
		return err == nil
	})
	return p.trusts(port, der)
}

// background runs a program until the test ends.
func (p *person) background(name string, args ...string) {
	p.t.Helper()
	cmd := exec.Command(need(p.t, name), args...)
	cmd.Env, cmd.Dir = p.environ(), p.home
	if err := cmd.Start(); err != nil {
		p.t.Fatal(err)
	}
	p.t.Cleanup(func() { _ = cmd.Process.Signal(os.Interrupt); _ = cmd.Wait() })
}

// TestWebServer goes to git's own HTTP backend behind a real web server.
func TestWebServer(t *testing.T) {
	t.Parallel()
	for name, s := range map[string]struct {
		more, word, code string
		push             bool
	}{
		"open":           {"", "ebb-and-flow", "", true},
		"other password": {"", "flood", "token-unknown", false},
		"no password":    {"", "", "secret-missing", false},
		"own certificate": {"ssl_verify_client on; ssl_client_certificate %s/cert.pem;", "ebb-and-flow",
			"tls-own-certificate", false},
		"maintenance": {"location = /buoys/drift-model.git/info/refs { return 503 'Down until noon.'; }",
			"ebb-and-flow", "host-failing", false},
		"no pushes": {"location ~ /git-receive-pack$ { return 403 'Pushing is for keepers.'; }", "ebb-and-flow",
			"read-only-account", true},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := newPerson(t)
			url := p.nginx(strings.ReplaceAll(s.more, "%s", p.path("nginx")))
			host, _, _ := strings.Cut(strings.TrimPrefix(url, "https://"), "/")
			p.mustGit("config", "--global", "credential.helper", "store")
			p.mustGit("init", "--quiet", "work")
			p.mustGit("-C", "work", "commit", "--quiet", "--allow-empty", "--message", "x")
			if s.word != "" { // anew before each: git makes its helper forget what was refused
				p.write("https://ines:"+s.word+"@"+host+"\n", ".git-credentials")
			}
			args := []string{"--for", "clone", url}
			if s.push {
				args[1] = "push"
			}
			c := p.check(args...)
			failed := p.git("-C", "work", "push", url, "HEAD:refs/heads/trial")
			if s.code == "" {
				if !c.Open || failed.exit != 0 {
					t.Errorf("the crux is %+v: %s", c.Crux, failed)
				}
				return
			}
			if failed.exit == 0 || c.Open || c.Crux.Code != s.code {
				t.Fatalf("the crux is %+v, want %s: %s", c.Crux, s.code, failed)
			}
			p.performed(s.code, c).mended = others
			p.explains(failed, s.code)
		})
	}
}
