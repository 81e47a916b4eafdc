package gitlink

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"Unicrux/core/person"
	"Unicrux/core/workstation"
)

// TestAgreesWithGit compares what holds for a URL with what git itself says, over generated
// configurations.
func TestAgreesWithGit(t *testing.T) {
	t.Parallel()
	home := t.TempDir()
	s := &workstation.Station{Person: person.Person{Home: home, Environ: []string{"PATH=" + os.Getenv("PATH"), "HOME=" + home, "GIT_CONFIG_NOSYSTEM=1"}}, Folder: home}
	for seed := range 150 {
		r := rand.New(rand.NewPCG(uint64(seed), 3))
		pick := func(words ...string) string { return words[r.IntN(len(words))] }
		var text strings.Builder
		for i := range 2 + r.IntN(7) {
			section := pick("http", "https", "http")
			pattern := pick("", "", fmt.Sprintf(" %q", pick("https", "https", "http", "HTTPS")+"://"+pick("", "", "ines@", "lab@")+
				pick("forge.example", "FORGE.example", "*.example", "git.example", "example", "forge.*")+pick("", "", ":443", ":8443")+
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
		target := pick("https", "http") + "://" + pick("", "ines@") + pick("forge.example", "git.example") + pick("", ":8443", ":443") + pick("", "/", "/buoys/drift-model", "/buoys")
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
			if want := strings.TrimSpace(string(out)); got != want {
				t.Fatalf("seed %d: http.%s for %s is %q, git says %q\n%s", seed, variable, target, got, want, text.String())
			}
		}
	}
}

// TestHelperChain compares the helpers with those that git asks.
func TestHelperChain(t *testing.T) {
	t.Parallel()
	home := t.TempDir()
	asked := filepath.Join(home, "asked")
	helper := func(name string) string { return fmt.Sprintf("!echo %s >>%s; true", name, asked) }
	config := "[credential]\n\thelper = " + quote(helper("first")) + "\n\thelper = \"\"\n\thelper = " + quote(helper("second")) + "\n" +
		"[credential \"https://other.example\"]\n\thelper = " + quote(helper("other")) + "\n" +
		"[credential \"https://forge.example\"]\n\thelper = " + quote(helper("third")) + "\n"
	s := &workstation.Station{Person: person.Person{Home: home, Environ: []string{"PATH=" + os.Getenv("PATH"), "HOME=" + home, "GIT_CONFIG_NOSYSTEM=1", "GIT_TERMINAL_PROMPT=0"}}, Folder: home}
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
	s := &workstation.Station{Person: person.Person{Home: home, Environ: []string{"PATH=" + os.Getenv("PATH"), "HOME=" + home, "GIT_CONFIG_NOSYSTEM=1"}}, Folder: home}
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
		got = append(got, fmt.Sprintf("%s:%d", entry.Key, c.Line(entry)))
	}
	want := "user.name:3 http.https://forge.example.proxy:4 http.https://forge.example.sslverify:5 http.proxy:8 http.proxy:10 a.q\"uote.b:12"
	if strings.Join(got, " ") != want {
		t.Errorf("got  %s\nwant %s", strings.Join(got, " "), want)
	}
}
