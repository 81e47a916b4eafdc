package gitlink

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"anchorage.example/unicrux/agreement"
	"anchorage.example/unicrux/core/person"
	"anchorage.example/unicrux/core/workstation"
)

// TestAgreesWithGit compares what holds for a URL with what git itself says, over generated
// configurations.
func TestAgreesWithGit(t *testing.T) {
	t.Parallel()
	home := t.TempDir()
	s := &workstation.Station{Person: person.Person{Home: home,
		Environ: []string{"PATH=" + os.Getenv("PATH"), "HOME=" + home, "GIT_CONFIG_NOSYSTEM=1"}}, Folder: home}
	tally := agreement.Of(t, "git: settings for a URL")
	for seed := range agreement.Rounds(150) {
		r := rand.New(rand.NewPCG(uint64(seed), 3))
		pick := func(words ...string) string { return words[r.IntN(len(words))] }
		var text strings.Builder
		for i := range 2 + r.IntN(7) {
			section := pick("http", "https", "http")
			pattern := pick("", "", fmt.Sprintf(" %q", pick("https", "https", "http", "HTTPS")+"://"+pick("",
				"", "ines@", "lab@")+
				pick("forge.example", "FORGE.example", "*.example", "git.example", "example", "forge.*")+pick("", "",
				":443", ":8443")+
				pick("", "/", "/buoys", "/buoys/", "/buoys/drift", "/buo")))
			fmt.Fprintf(&text, "[%s%s]\n\t%s = v%d\n", section, pattern, pick("proxy", "sslCAInfo", "cookieFile"), i)
		}
		if err := os.WriteFile(filepath.Join(home, ".gitconfig"), []byte(text.String()), 0o600); err != nil {
			t.Fatal(err)
		}
		config, err := ReadConfig(context.Background(), s)
		if err != nil {
			t.Fatal(err)
		}
		target := pick("https", "http") + "://" + pick("", "ines@") + pick("forge.example", "git.example") + pick("",
			":8443", ":443") + pick("", "/", "/buoys/drift-model", "/buoys")
		for _, variable := range []string{"proxy", "sslcainfo", "cookiefile"} {
			cmd := exec.Command("git", "config", "--get-urlmatch", "http."+variable, target)
			cmd.Env = s.Environ
			out, _ := cmd.Output() // none is an exit status
			got := ""
			for _, setting := range config.For("http", target) {
				if setting.Name == "http."+variable {
					got = setting.Entry.Value
				}
			}
			want := strings.TrimSpace(string(out))
			tally.Case(got == want, "seed %d: http.%s for %s is %q, git says %q\n%s", seed, variable, target, got,
				want, text.String())
		}
	}
}

// TestHelpersAgree compares which helpers hold for a URL, in which order, with those that git asks, over
// generated configurations.
func TestHelpersAgree(t *testing.T) {
	t.Parallel()
	home := t.TempDir()
	asked := filepath.Join(home, "asked")
	s := &workstation.Station{Person: person.Person{Home: home,
		Environ: []string{"PATH=" + os.Getenv("PATH"), "HOME=" + home, "GIT_CONFIG_NOSYSTEM=1",
			"GIT_TERMINAL_PROMPT=0"}}, Folder: home}
	some := 0
	tally := agreement.Of(t, "git: whom it asks for a secret")
	for seed := range agreement.Rounds(100) {
		r := rand.New(rand.NewPCG(uint64(seed), 9))
		pick := func(words ...string) string { return words[r.IntN(len(words))] }
		var text strings.Builder
		for i := range 2 + r.IntN(6) {
			pattern := pick("", "", "https://forge.example", "https://forge.example/", "https://ines@forge.example",
				"https://lab@forge.example", "https://*.example", "https://forge.example/buoys",
				"https://forge.example/buoys/x",
				"https://forge.example:8443", "https://forge.example:443", "http://forge.example", "forge.example",
				"forge.example:8443", "ines@forge.example", "forge.example/buoys/x", "other.example",
				"https://FORGE.example")
			if pattern != "" {
				pattern = " " + quote(pattern)
			}
			value := quote(fmt.Sprintf("!echo h%d >>%s; true", i, asked))
			fmt.Fprintf(&text, "[credential%s]\n\thelper = %s\n", pattern, pick(value, value, value, value, `""`))
		}
		target := "https://" + pick("", "ines@") + "forge.example" + pick("", "", ":8443") + pick("/",
			"/buoys/x", "/buoys/y/z")
		if err := os.WriteFile(filepath.Join(home, ".gitconfig"), []byte(text.String()), 0o600); err != nil {
			t.Fatal(err)
		}
		_ = os.Remove(asked)
		cmd := exec.Command("git", "credential", "fill")
		cmd.Env, cmd.Stdin = s.Environ, strings.NewReader("url="+target+"\n\n")
		_ = cmd.Run()                 // nobody has an answer
		want, _ := os.ReadFile(asked) // nobody was asked
		c, err := ReadConfig(context.Background(), s)
		if err != nil {
			t.Fatal(err)
		}
		got := ""
		for _, setting := range c.For("credential", target) {
			got += strings.Fields(setting.Entry.Value)[1] + "\n"
			some++
		}
		tally.Case(got == string(want), "seed %d: for %s we say %q, git asks %q\n%s", seed, target, got, want,
			text.String())
	}
	if some == 0 {
		t.Error("no helper was ever asked")
	}
}

// TestHelperChain compares the helpers with those that git asks.
func TestHelperChain(t *testing.T) {
	t.Parallel()
	home := t.TempDir()
	asked := filepath.Join(home, "asked")
	helper := func(name string) string { return fmt.Sprintf("!echo %s >>%s; true", name, asked) }
	config := "[credential]\n\thelper = " + quote(helper("first")) + "\n\thelper = \"\"\n\thelper = " +
		quote(helper("second")) + "\n" +
		"[credential \"https://other.example\"]\n\thelper = " + quote(helper("other")) + "\n" +
		"[credential \"https://forge.example\"]\n\thelper = " + quote(helper("third")) + "\n"
	s := &workstation.Station{Person: person.Person{Home: home,
		Environ: []string{"PATH=" + os.Getenv("PATH"), "HOME=" + home, "GIT_CONFIG_NOSYSTEM=1",
			"GIT_TERMINAL_PROMPT=0"}}, Folder: home}
	if err := os.WriteFile(filepath.Join(home, ".gitconfig"), []byte(config), 0o600); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command("git", "credential", "fill")
	cmd.Env, cmd.Stdin = s.Environ, strings.NewReader("url=https://forge.example/x\n\n")
	_ = cmd.Run() // nobody has an answer
	want, err := os.ReadFile(asked)
	if err != nil {
		t.Fatal(err)
	}
	c, err := ReadConfig(context.Background(), s)
	if err != nil {
		t.Fatal(err)
	}
	var got, lost []string
	for _, setting := range c.For("credential", "https://forge.example/x") {
		got = append(got, strings.Fields(setting.Entry.Value)[1])
		for _, l := range setting.Lost {
			lost = append(lost, strings.Fields(l.Entry.Value)[1])
		}
	}
	if strings.Join(got, "\n")+"\n" != string(want) || strings.Join(lost, " ") != "first" {
		t.Errorf("we say %q, lost %q; git asks %q", got, lost, want)
	}
}

func quote(text string) string { return `"` + strings.ReplaceAll(text, `"`, `\"`) + `"` }

// TestLines finds where entries stand, in the spellings that git reads.
func TestLines(t *testing.T) {
	t.Parallel()
	home := t.TempDir()
	s := &workstation.Station{Person: person.Person{Home: home,
		Environ: []string{"PATH=" + os.Getenv("PATH"), "HOME=" + home, "GIT_CONFIG_NOSYSTEM=1"}}, Folder: home}
	text := "# a comment\n[user]\n\tname = Ines\n[http \"https://forge.example\"] proxy = p\n\tsslVerify\n; x\n[HTTP]\n  proxy=one \\\n  proxy = two\n\tproxy = three ; why\n[a \"q\\\"uote\"]\n b = 1\n"
	if err := os.WriteFile(filepath.Join(home, ".gitconfig"), []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	c, err := ReadConfig(context.Background(), s)
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, entry := range c.entries {
		got = append(got, fmt.Sprintf("%s:%d", entry.Key, entry.Line()))
	}
	want := "user.name:3 http.https://forge.example.proxy:4 http.https://forge.example.sslverify:5 http.proxy:8 http.proxy:10 a.q\"uote.b:12"
	if strings.Join(got, " ") != want {
		t.Errorf("got  %s\nwant %s", strings.Join(got, " "), want)
	}
}

// TestHeadersAgree compares the headers that settings add with those that arrive from git.
func TestHeadersAgree(t *testing.T) {
	t.Parallel()
	var mu sync.Mutex
	var arrived []string
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		arrived = r.Header.Values("X-Tide")
		w.WriteHeader(http.StatusNotFound)
	}))
	t.Cleanup(server.Close)
	at := strings.TrimPrefix(server.URL, "http://")
	home := t.TempDir()
	s := &workstation.Station{Person: person.Person{Home: home,
		Environ: []string{"PATH=" + os.Getenv("PATH"), "HOME=" + home, "GIT_CONFIG_NOSYSTEM=1",
			"GIT_TERMINAL_PROMPT=0"}}, Folder: home}
	tally := agreement.Of(t, "git: which headers arrive")
	for seed := range agreement.Rounds(60) {
		r := rand.New(rand.NewPCG(uint64(seed), 16))
		pick := func(words ...string) string { return words[r.IntN(len(words))] }
		var text strings.Builder
		for i := range 2 + r.IntN(4) {
			pattern := pick("", "", "http://"+at, "http://"+at+"/buoys", "http://ines@"+at,
				"http://*.0.0.1:"+strings.Split(at, ":")[1], "http://127.0.0.1")
			if pattern != "" {
				pattern = " " + quote(pattern)
			}
			value := fmt.Sprintf("X-Tide: %d", i)
			fmt.Fprintf(&text, "[http%s]\n\textraHeader = %s\n", pattern, pick(value, value, value, `""`))
		}
		if err := os.WriteFile(filepath.Join(home, ".gitconfig"), []byte(text.String()), 0o600); err != nil {
			t.Fatal(err)
		}
		target := "http://" + pick("", "ines@") + at + pick("/buoys/x.git", "/other.git")
		cmd := exec.Command("git", "ls-remote", "--", target)
		cmd.Env = s.Environ
		_ = cmd.Run() // nothing is there
		c, err := ReadConfig(context.Background(), s)
		if err != nil {
			t.Fatal(err)
		}
		u, err := url.Parse(target)
		if err != nil {
			t.Fatal(err)
		}
		var ours []string
		for _, header := range c.Web(u).Headers {
			ours = append(ours, strings.TrimPrefix(header, "X-Tide: "))
		}
		mu.Lock()
		tally.Case(slices.Equal(ours, arrived), "seed %d: for %s we say %q, git sends %q\n%s", seed, target, ours,
			arrived, text.String())
		arrived = nil
		mu.Unlock()
	}
}

// TestBooleansAgree asks git what counts as yes.
func TestBooleansAgree(t *testing.T) {
	t.Parallel()
	tally := agreement.Of(t, "git: yes and no")
	for _, text := range []string{"true", "TRUE", "yes", "on", "1", "2", "-1", "0", "00", "false", "No", "off", ""} {
		out, err := exec.Command("git", "-c", "tide.high="+text, "config", "--type=bool", "tide.high").Output()
		tally.Case(err == nil && IsTrue(text) == (strings.TrimSpace(string(out)) == "true"), "%q: we say %v, git %s%v",
			text, IsTrue(text), out, err)
	}
}
