package acceptance

import (
	"bufio"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"html"
	"io"
	"math/big"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/oauth"
)

// certificate makes a certificate for a name that it signs itself, in two files.
func certificate(t testing.TB, dir, name string) (cert, key string) {
	t.Helper()
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	form := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: name},
		DNSNames: []string{name}, NotBefore: time.Now().Add(-time.Hour),
		NotAfter: time.Now().Add(time.Hour), IsCA: true, BasicConstraintsValid: true,
		KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign}
	der, err := x509.CreateCertificate(rand.Reader, form, form, private.Public(), private)
	if err != nil {
		t.Fatal(err)
	}
	keyDER, err := x509.MarshalPKCS8PrivateKey(private)
	if err != nil {
		t.Fatal(err)
	}
	cert, key = filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	for path, block := range map[string]*pem.Block{cert: {Type: "CERTIFICATE", Bytes: der},
		key: {Type: "PRIVATE KEY", Bytes: keyDER}} {
		if err := os.WriteFile(path, pem.EncodeToMemory(block), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return cert, key
}

// oauthServer runs a real OAuth server, and returns its issuer and the file of its certificate.
func oauthServer(t *testing.T) (issuer, cert string) {
	t.Helper()
	node := need(t, "node")
	if _, err := os.Stat(filepath.Join("oidc", "node_modules", "oidc-provider")); err != nil {
		if os.Getenv("CI") != "" {
			t.Fatal("npm install was not run in acceptance/oidc")
		}
		t.Skip("npm install was not run in acceptance/oidc")
	}
	cert, key := certificate(t, t.TempDir(), "localhost")
	cmd := exec.Command(node, "server.mjs", cert, key)
	cmd.Dir = "oidc"
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	})
	lines := bufio.NewScanner(out)
	for lines.Scan() {
		if strings.HasPrefix(lines.Text(), "https://") {
			go func() { _, _ = io.Copy(io.Discard, out) }()
			return lines.Text(), cert
		}
	}
	t.Fatal("the OAuth server did not come up")
	return "", ""
}

// A browser follows the pages of an OAuth server as a person does who says yes to everything.
type browser struct {
	t      *testing.T
	client *http.Client
}

func newBrowser(t *testing.T) *browser {
	jar, err := cookiejar.New(nil)
	if err != nil {
		t.Fatal(err)
	}
	transport := &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}} // it is the test's own server
	return &browser{t: t, client: &http.Client{Jar: jar, Transport: transport, Timeout: 10 * time.Second}}
}

var (
	formTag  = regexp.MustCompile(`(?s)<form[^>]*action="([^"]+)"[^>]*>`)
	inputTag = regexp.MustCompile(`<input[^>]*>`)
	nameOf   = regexp.MustCompile(`name="([^"]*)"`)
	valueOf  = regexp.MustCompile(`value="([^"]*)"`)
)

// allow goes through the pages until there is no form left.
func (b *browser) allow(page string) {
	b.t.Helper()
	response, err := b.client.Get(page)
	for range 8 {
		if err != nil {
			b.t.Fatal(err)
		}
		text, _ := io.ReadAll(response.Body)
		_ = response.Body.Close()
		match := formTag.FindStringSubmatch(string(text))
		if match == nil || response.StatusCode >= 400 {
			return
		}
		form := url.Values{"login": {"ines.marlow"}, "password": {"x"}, "confirm": {"yes"}}
		for _, tag := range inputTag.FindAllString(string(text), -1) {
			name, value := nameOf.FindStringSubmatch(tag), valueOf.FindStringSubmatch(tag)
			if name != nil && value != nil && name[1] != "abort" {
				form.Set(name[1], html.UnescapeString(value[1]))
			}
		}
		action, err2 := response.Request.URL.Parse(html.UnescapeString(match[1]))
		if err2 != nil {
			b.t.Fatal(err2)
		}
		response, err = b.client.PostForm(action.String(), form)
	}
}

// TestOAuthServerOfOthers signs in at a server that has nothing to do with us, asks it about
// the token, renews and revokes it.
func TestOAuthServerOfOthers(t *testing.T) {
	t.Parallel()
	issuer, cert := oauthServer(t)
	authority, err := os.ReadFile(cert)
	if err != nil {
		t.Fatal(err)
	}
	d, err := describe.Parse(fmt.Appendf(nil,
		"unicrux = 1\nname = \"forge\"\n[ssh]\nhost = \"forge.tidewater.example\"\nuser = \"git\"\n[oauth]\nissuer = %q\nclient = \"unicrux\"\nauthority = \"\"\"%s\"\"\"\n", issuer, authority))
	if err != nil {
		t.Fatal(err)
	}
	server, err := oauth.Discover(t.Context(), d)
	if err != nil {
		t.Fatal(err)
	}
	prompt, err := server.Begin(t.Context(), []string{"openid", "offline_access", "repo:read"})
	if err != nil {
		t.Fatal(err)
	}
	newBrowser(t).allow(prompt.Direct)
	grant, err := server.Wait(t.Context(), prompt)
	if err != nil || grant.Refresh.Empty() || grant.Until.IsZero() {
		t.Fatalf("%+v, %v", grant, err)
	}
	if known, err := server.Ask(t.Context(), d.Bind(grant.Access)); err != nil || !known.Active ||
		known.Until.IsZero() {
		t.Errorf("asked: %+v, %v", known, err)
	}
	fresh, err := server.Refresh(t.Context(), d.Bind(grant.Refresh), grant.Scopes)
	if err != nil || fresh.Access.Empty() {
		t.Fatalf("renewed: %v", err)
	}
	if err := server.Forget(t.Context(), d.Bind(fresh.Access)); err != nil {
		t.Error(err)
	}
	if known, err := server.Ask(t.Context(), d.Bind(fresh.Access)); err != nil || known.Active {
		t.Errorf("revoked: %+v, %v", known, err)
	}
	if err := server.Forget(t.Context(), d.Bind(fresh.Refresh)); err != nil {
		t.Error(err)
	}
}

// useCertificate lets a test server show a certificate of the test's own.
func useCertificate(t testing.TB, server *httptest.Server, cert, key string) {
	t.Helper()
	pair, err := tls.LoadX509KeyPair(cert, key)
	if err != nil {
		t.Fatal(err)
	}
	server.TLS.Certificates = []tls.Certificate{pair}
}
