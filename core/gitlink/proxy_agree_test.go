package gitlink

import (
	"context"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"anchorage.example/unicrux/agreement"
	"anchorage.example/unicrux/core/person"
	"anchorage.example/unicrux/core/workstation"
)

// TestProxiesAgree asks the real git, which goes to a proxy of ours or does not, and us.
func TestProxiesAgree(t *testing.T) {
	t.Parallel()
	proxy, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer proxy.Close() // nothing was written
	var reached atomic.Int64
	go func() {
		for {
			conn, err := proxy.Accept()
			if err != nil {
				return
			}
			reached.Add(1)
			_ = conn.Close()
		}
	}()
	at := "http://" + proxy.Addr().String()
	nobody, err := net.Listen("tcp", "127.0.0.1:0") // a port on which nobody listens from here on
	if err != nil {
		t.Fatal(err)
	}
	_, port, _ := net.SplitHostPort(nobody.Addr().String())
	_ = nobody.Close()

	home := t.TempDir()
	proxied, direct, n := 0, 0, 0
	tally := agreement.Of(t, "git: its proxy")
	for _, host := range []string{"forge.example", "127.0.0.1", "localhost", "x.forge.example"} {
		for name, how := range map[string]struct{ config, environ []string }{
			"configured":                 {[]string{"http.proxy=" + at}, nil},
			"configured to none":         {[]string{"http.proxy="}, []string{"http_proxy=" + at}},
			"in the environment":         {nil, []string{"http_proxy=" + at}},
			"in capitals":                {nil, []string{"HTTP_PROXY=" + at}},
			"for all":                    {nil, []string{"all_proxy=" + at}},
			"for all in capitals":        {nil, []string{"ALL_PROXY=" + at}},
			"empty, and one for all":     {nil, []string{"http_proxy=", "ALL_PROXY=" + at}},
			"empty for all, in capitals": {nil, []string{"all_proxy=", "ALL_PROXY=" + at}},
		} {
			for _, exempt := range [][]string{nil, {"no_proxy="}, {"no_proxy=*"}, {"no_proxy=forge.example"},
				{"no_proxy=.forge.example"}, {"no_proxy=other.example, forge.example"},
				{"no_proxy=other.example forge.example"},
				{"no_proxy=example"}, {"no_proxy=xample"}, {"no_proxy=FORGE.example."},
				{"no_proxy=forge.example:" + port}, {"no_proxy=127.0.0.0/8"}, {"no_proxy=127.0.0.1"},
				{"no_proxy=localhost"}, {"no_proxy=10.0.0.0/8,127.0.0.0/30"},
				{"NO_PROXY=forge.example"}, {"no_proxy=other.example", "NO_PROXY=forge.example"},
				{"no_proxy=", "NO_PROXY=forge.example"}} {
				if n++; n%5 != 0 && os.Getenv("UNICRUX_ROUNDS") == "" { // a sample is enough each time
					continue
				}
				environ := append(append([]string{}, how.environ...), exempt...)
				var args []string
				var text string
				for _, c := range how.config {
					args = append(args, "-c", c)
					text += "[http]\n\tproxy = " + strings.TrimPrefix(c, "http.proxy=") + "\n"
				}
				if err := os.WriteFile(filepath.Join(home, ".gitconfig"), []byte(text), 0o600); err != nil {
					t.Fatal(err)
				}
				s := &workstation.Station{Person: person.Person{Home: home,
					Environ: append([]string{"HOME=" + home, "PATH=" + os.Getenv("PATH"), "GIT_CONFIG_NOSYSTEM=1"},
						environ...)}, Folder: home}
				target := "http://" + net.JoinHostPort(host, port) + "/x.git"
				before := reached.Load()
				cmd := exec.Command("git", append(args, "-c", "http.curloptResolve="+host+":"+port+":127.0.0.1",
					"ls-remote", target)...)
				cmd.Env = append([]string{"PATH=" + os.Getenv("PATH"), "HOME=" + s.Home, "GIT_CONFIG_NOSYSTEM=1",
					"GIT_TERMINAL_PROMPT=0"}, environ...)
				_ = cmd.Run() // it fails in any case
				theirs := reached.Load() > before
				config, err := ReadConfig(context.Background(), s)
				if err != nil {
					t.Fatal(err)
				}
				parsed, err := url.Parse(target)
				if err != nil {
					t.Fatal(err)
				}
				ours := config.Web(parsed).Proxy != ""
				tally.Case(ours == theirs, "%s, %s, %q: by a proxy: we say %v, git %v", host, name,
					exempt, ours, theirs)
				if theirs {
					proxied++
				} else {
					direct++
				}
			}
		}
	}
	if proxied < 20 || direct < 20 {
		t.Errorf("%d by a proxy, %d without", proxied, direct)
	}
}

// TestProxyOfARemote: a remote may have one of its own, or none.
func TestProxyOfARemote(t *testing.T) {
	t.Parallel()
	s := station(t, "[http]\n\tproxy = http://all:1\n[remote \"one\"]\n\tproxy = own:2\n[remote \"none\"]\n\tproxy =\n")
	target := &url.URL{Scheme: "https", Host: "forge.example"}
	for remote, want := range map[string]string{"": "http://all:1", "another": "http://all:1",
		"one": "http://own:2", "none": ""} {
		if got := config(t, s).WebOf(remote, target).Proxy; got != want {
			t.Errorf("%q: %q, want %q", remote, got, want)
		}
	}
}
