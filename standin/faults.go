package standin

import (
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
)

// A Fault is something that the practice host can be told to do wrong.
type Fault struct {
	Code string // of the crux that somebody meets then
	By   string // ssh, https, or both in words
	Does string // what the host does then, in one sentence

	line func(net.Conn)                 // takes a connection over before anything was said
	keys func(*Host, *ssh.ServerConfig) // how it lets people sign in over SSH
	tls  func(*Host, *tls.Config) error // how it proves itself over HTTPS
	says string                         // in words, in place of the repository
	web  func(http.ResponseWriter)      // in place of the repository over HTTPS
	pass func(*pass) *pass              // what it takes a token for
	hook string                         // what a hook says to a push
}

const both = "ssh, https"

// faults lists them in the order of the way.
var faults = []Fault{
	{Code: "port-silent", By: both, Does: "Takes connections and says nothing.", line: func(conn net.Conn) {
		_, _ = conn.Read(make([]byte, 1)) // the client speaks, and is not answered
		_ = waitForEnd(conn)
	}},
	{Code: "connection-closed", By: both, Does: "Hangs up on everybody.", line: func(net.Conn) {}},
	{Code: "ssh-port-blocked", By: "ssh", Does: "Hangs up on its usual port for SSH; the other one works.",
		line: func(net.Conn) {}},
	{Code: "not-ssh", By: "ssh", Does: "Answers on its port for SSH as a web server does.", line: func(conn net.Conn) {
		_, _ = conn.Write([]byte("HTTP/1.1 400 Bad Request\r\nConnection: close\r\n\r\n"))
	}},
	{Code: "not-tls", By: "https", Does: "Answers on its port for HTTPS without TLS.", line: func(conn net.Conn) {
		_, _ = conn.Read(make([]byte, 1<<10))
		_, _ = conn.Write([]byte("HTTP/1.1 400 Bad Request\r\nConnection: close\r\n\r\n"))
	}},
	{Code: "host-key-wrong", By: "ssh", Does: "Proves itself by another key than the one that it publishes.",
		keys: func(_ *Host, c *ssh.ServerConfig) {
			if other, err := newHostKey(); err == nil {
				c.AddHostKey(other) // in the place of the one of its kind
			}
		}},
	{Code: "tls-authority-unknown", By: "https", Does: "Shows a certificate that nobody whom you trust has signed.",
		tls: func(h *Host, c *tls.Config) error {
			other, err := newAuthority(h.world.hostname)
			if err == nil {
				c.Certificates = []tls.Certificate{other.leaf}
			}
			return err
		}},
	{Code: "tls-ended", By: "https", Does: "Shows a certificate that expired yesterday.",
		tls: leaf("", -3*24*time.Hour, -24*time.Hour)},
	{Code: "tls-not-yet", By: "https", Does: "Shows a certificate that is good from tomorrow on.",
		tls: leaf("", 24*time.Hour, 3*24*time.Hour)},
	{Code: "tls-name", By: "https", Does: "Shows a certificate for another name.",
		tls: leaf("www.elsewhere.example", -time.Hour, lifetime)},
	{Code: "tls-own-certificate", By: "https", Does: "Wants a certificate from everybody.",
		tls: func(_ *Host, c *tls.Config) error {
			c.ClientAuth = tls.RequireAnyClientCert
			return nil
		}},
	{Code: "key-not-registered", By: "ssh", Does: "Knows nobody's key.", keys: refusing("")},
	{Code: "key-ended", By: "ssh", Does: "Says of every key that it has expired.",
		keys: refusing("the key has ended: register it anew\n")},
	{Code: "sign-in-other-way", By: "ssh", Does: "Takes passwords alone.", keys: func(_ *Host, c *ssh.ServerConfig) {
		c.PublicKeyCallback = nil
		c.PasswordCallback = func(ssh.ConnMetadata, []byte) (*ssh.Permissions, error) { return nil, errStranger }
	}},
	{Code: "second-step-needed", By: "ssh", Does: "Wants a code after the key.",
		keys: func(h *Host, c *ssh.ServerConfig) {
			c.PublicKeyCallback = func(meta ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
				if _, err := h.whoseKey(meta, key); err != nil {
					return nil, err
				}
				refuse := func(ssh.ConnMetadata, ssh.KeyboardInteractiveChallenge) (*ssh.Permissions, error) {
					return nil, errStranger
				}
				return nil, &ssh.PartialSuccessError{Next: ssh.ServerAuthCallbacks{KeyboardInteractiveCallback: refuse}}
			}
		}},
	{Code: "token-unknown", By: "https", Does: "Knows nobody's token.", pass: func(*pass) *pass { return nil }},
	{Code: "token-ended", By: "https", Does: "Says of every token that it has expired.", pass: func(p *pass) *pass {
		if p == nil {
			return nil
		}
		ended := *p
		ended.until = time.Now().AddDate(0, 0, -2)
		return &ended
	}},
	{Code: "address-not-allowed", By: both, Does: "Lets nobody in from your network.",
		says: "your address is not allowed here: only the cooperative's own network is.",
		web:  refuses(http.StatusForbidden, "your address is not allowed here: only the cooperative's own network is")},
	{Code: "account-blocked", By: both, Does: "Has blocked every account.",
		says: "the account is blocked: ask the board.",
		web:  refuses(http.StatusForbidden, "the account is blocked: ask the board")},
	{Code: "signed-in-page", By: "https", Does: "Answers git with a page for signing in.",
		web: func(w http.ResponseWriter) {
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			_, _ = fmt.Fprintln(w, "<!doctype html><title>Sign in</title><form><input type=password></form>")
		}},
	{Code: "repository-missing", By: both, Does: "Shows nobody any repository.",
		says: "there is no repository of that name that you may see.",
		web:  refuses(http.StatusNotFound, "there is no repository of that name that you may see")},
	{Code: "repository-moved", By: "https", Does: "Says that every repository is elsewhere now.",
		web: func(w http.ResponseWriter) {
			w.Header().Set("Location", "https://moved.tidewater.example/")
			gitSays(w, http.StatusMovedPermanently, "the repository has moved")
		}},
	{Code: "host-limits", By: both, Does: "Says that it has had too many requests.",
		says: "too many requests: try again in 60 seconds.", web: func(w http.ResponseWriter) {
			w.Header().Set("Retry-After", "60")
			gitSays(w, http.StatusTooManyRequests, "too many requests")
		}},
	{Code: "host-failing", By: both, Does: "Has a fault of its own.", says: "internal error 40, sorry.",
		web: refuses(http.StatusServiceUnavailable, "the cellar is flooded")},
	{Code: "hook-there", By: both, Does: "Refuses every push by a hook.", hook: "the harbour master says no\n"},
	{Code: "branch-protected", By: both, Does: "Refuses every push by a rule for the branch.",
		hook: "the branch main is protected: changes must be made through a review\n"},
	{Code: "disk-full", By: both, Does: "Has no room left for a push.",
		hook: "fatal: write error: No space left on device\n"},
}

// Faults lists what the practice host can be told to do wrong.
func Faults() []Fault { return slices.Clone(faults) }

// ErrNoFault is returned for a fault that there is not.
var ErrNoFault = errors.New("no such fault")

// Begin makes the host do these things wrong from now on, and nothing else: without any it does all
// well.
func (h *Host) Begin(codes ...string) error {
	var list []Fault
	for _, code := range codes {
		i := slices.IndexFunc(faults, func(f Fault) bool { return f.Code == code })
		if i < 0 {
			return fmt.Errorf("%s: %w", code, ErrNoFault)
		}
		list = append(list, faults[i])
		if err := h.writeHook(faults[i].hook); err != nil {
			return err
		}
	}
	h.state.Lock()
	h.state.faults = list
	h.state.Unlock()
	return nil
}

func (h *Host) hooks() string { return filepath.Join(h.Folder, "hooks") }

func (h *Host) writeHook(words string) error {
	if words == "" {
		return nil
	}
	if err := os.MkdirAll(h.hooks(), 0o700); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(h.hooks(), "pre-receive"),
		[]byte("#!/bin/sh\ncat <<'EOF' >&2\n"+words+"EOF\nexit 1\n"), 0o700)
}

// wrong returns the first fault over SSH or over HTTPS that is of a kind; the zero Fault for none.
func (h *Host) wrong(by string, is func(Fault) bool) Fault {
	h.state.Lock()
	defer h.state.Unlock()
	for _, f := range h.state.faults {
		if strings.Contains(f.By, by) && is(f) {
			return f
		}
	}
	return Fault{}
}

// hookSettings makes git run the fault's hook, by its environment (GIT_CONFIG_COUNT in git(1)).
func (h *Host) hookSettings() []string {
	if h.wrong("", func(f Fault) bool { return f.hook != "" }).hook == "" {
		return nil
	}
	return []string{"GIT_CONFIG_COUNT=1", "GIT_CONFIG_KEY_0=core.hooksPath", "GIT_CONFIG_VALUE_0=" + h.hooks()}
}

// refusing knows no key, and says why where there is something to say.
func refusing(words string) func(*Host, *ssh.ServerConfig) {
	return func(_ *Host, c *ssh.ServerConfig) {
		c.PublicKeyCallback = func(ssh.ConnMetadata, ssh.PublicKey) (*ssh.Permissions, error) {
			if words != "" {
				return nil, &ssh.BannerError{Err: errStranger, Message: words}
			}
			return nil, errStranger
		}
	}
}

func refuses(status int, words string) func(http.ResponseWriter) {
	return func(w http.ResponseWriter) { gitSays(w, status, words) }
}

// leaf shows a certificate for a name, the host's own where none is given, that is good from and until
// some time from now.
func leaf(name string, from, until time.Duration) func(*Host, *tls.Config) error {
	return func(h *Host, c *tls.Config) error {
		called := name
		if called == "" {
			called = h.world.hostname
		}
		certificate, err := h.authority.sign(called, time.Now().Add(from), time.Now().Add(until))
		c.Certificates = []tls.Certificate{certificate}
		return err
	}
}

// waitForEnd reads until the client gives up.
func waitForEnd(conn net.Conn) error {
	buffer := make([]byte, 1<<10)
	for {
		if _, err := conn.Read(buffer); err != nil {
			return err
		}
	}
}

// A faulty listener lets a fault take connections over.
type faulty struct {
	net.Listener
	host *Host
	by   string
}

func (f faulty) Accept() (net.Conn, error) {
	for {
		conn, err := f.Listener.Accept()
		if err != nil {
			return nil, err
		}
		fault := f.host.wrong(f.by, func(fault Fault) bool {
			return fault.line != nil && (fault.Code != "ssh-port-blocked" || f.Listener != f.host.other)
		})
		if fault.line == nil {
			return conn, nil
		}
		f.host.running.Go(func() {
			f.host.track(conn, true)
			defer f.host.track(conn, false)
			defer conn.Close() // that it ends is the fault
			fault.line(conn)
		})
	}
}
