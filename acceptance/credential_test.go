package acceptance

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"sync"
	"testing"
	"time"
)

// TestCredentialProtocol speaks git's protocol to the helper, rightly and wrongly.
func TestCredentialProtocol(t *testing.T) {
	t.Parallel()
	p := withHost(t).withChest()
	if r := p.newToken(); r.exit != 0 {
		t.Fatal(r)
	}
	p.openChest()
	host := p.webHost()
	for way, more := range map[string]string{"at once": "",
		"the long way": strings.Repeat("wwwauth[]="+strings.Repeat("x", 100)+"\n", 40)} {
		t.Run(way, func(t *testing.T) {
			answersGit(t, host, func(text string) result {
				return p.run(more+text, program, "for-git",
					"credential", "get")
			})
		})
	}
	// What git proved is kept, for whatever host; twice is once.
	lab := strings.TrimSpace(p.read2(p.host.TokenFileOf("lab")))
	for range 2 {
		p.run("protocol=https\nhost="+host+"\nusername=lab\npassword="+lab+"\n", program, "for-git",
			"credential", "store")
	}
	p.run("protocol=https\nhost=other.example\nusername=lab\npassword="+lab+"\n", program, "for-git",
		"credential", "store")
	var document struct{ Tokens []struct{ Name, At string } }
	if err := json.Unmarshal([]byte(p.must("token", "list", "--json").out), &document); err != nil ||
		len(document.Tokens) != 3 {
		t.Errorf("kept from git: %+v, %v", document, err)
	}
	if r := p.run("protocol=https\nhost="+host+"\nusername=lab\n", program, "for-git", "credential",
		"get"); !strings.Contains(r.out, lab) {
		t.Errorf("kept from git, and asked: %s", r)
	}
	// A refusal of something that is not ours takes nothing away.
	p.run("protocol=https\nhost="+host+"\nusername=lab\npassword=another\n", program, "for-git", "credential", "erase")
	if r := p.must("token", "list", "--json"); strings.Count(r.out, host) != 2 {
		t.Errorf("erased: %s", r)
	}
}

// answersGit asks for the token of a host, and for others.
func answersGit(t *testing.T, host string, get func(text string) result) {
	t.Helper()
	if r := get("capability[]=authtype\nprotocol=https\nhost=" + strings.ToUpper(host) +
		"\nwwwauth[]=Basic realm=\"x\"\nfuture=yes\n\n"); !strings.Contains(r.out,
		"username=ines.marlow\npassword=tide-") || !strings.Contains(r.out, "password_expiry_utc=") {
		t.Errorf("asked: %s", r)
	}
	for name, text := range map[string]string{
		"plain http":      "protocol=http\nhost=" + host + "\n",
		"another port":    "protocol=https\nhost=" + strings.Split(host, ":")[0] + "\n",
		"another host":    "protocol=https\nhost=evil.example\n",
		"part of a name":  "protocol=https\nhost=x" + host + "\n",
		"another user":    "protocol=https\nhost=" + host + "\nusername=chair\n",
		"no host":         "protocol=https\n",
		"nothing":         "",
		"smtp":            "protocol=smtp\nhost=" + host + "\n",
		"ended by a line": "\nprotocol=https\nhost=" + host + "\n",
	} {
		if r := get(text); r.out != "" || r.exit != 0 {
			t.Errorf("%s: %s", name, r)
		}
	}
	for name, text := range map[string]string{
		"a carriage return": "protocol=https\r\nhost=" + host + "\r\n",
		"a zero byte":       "protocol=https\nhost=a\x00b\n",
		"no protocol":       "hello\n",
		"a line too long":   "protocol=https\nhost=" + strings.Repeat("a", 70_000) + "\n",
		"lines without end": strings.Repeat("a=b\n", 5000),
		"an escape":         "protocol=https\nhost=\x1b[2J\n",
	} {
		if r := get(text); r.out != "" || r.exit != 2 {
			t.Errorf("%s: %s", name, r)
		}
	}
}

// TestManyTokensAtOnce lets fifty programs keep tokens at the same time.
func TestManyTokensAtOnce(t *testing.T) {
	t.Parallel()
	p := withHost(t).withChest()
	if r := p.newToken(); r.exit != 0 {
		t.Fatal(r)
	}
	host := p.webHost()
	p.openChest()
	var wait sync.WaitGroup
	for i := range 50 {
		wait.Go(func() {
			text := fmt.Sprintf("protocol=https\nhost=%s\nusername=u%d\npassword=secret-%d\n", host, i, i)
			if r := p.run(text, program, "for-git", "credential", "store"); r.exit != 0 {
				t.Error(r)
			}
		})
	}
	wait.Wait()
	for i := range 50 {
		r := p.run(fmt.Sprintf("protocol=https\nhost=%s\nusername=u%d\n", host, i), program, "for-git",
			"credential", "get")
		if !strings.Contains(r.out, fmt.Sprintf("password=secret-%d\n", i)) {
			t.Errorf("u%d: %s", i, r)
		}
	}
}

// TestCard tells everything to fill in into another program, and no secret.
func TestCard(t *testing.T) {
	t.Parallel()
	p := settled(t).withChest()
	r := p.must("card", "forge", "--for", "push")
	for _, want := range []string{"127.0.0.1", "user        git", p.path(".ssh", "forge_ed25519"), "openssh",
		"SHA256:", "unicrux token new forge --for push"} {
		if !strings.Contains(r.out, want) {
			t.Errorf("no %q: %s", want, r)
		}
	}
	if r := p.newToken(); r.exit != 0 {
		t.Fatal(r)
	}
	p.openChest()
	token := strings.TrimSpace(p.must("token", "show", "forge", "--reveal").out)
	var card struct {
		Schema string
		Sides  []struct {
			Transport string
			Ready     bool
			Fields    []struct{ Name, Value, Token string }
		}
	}
	r = p.must("card", "forge", "--json")
	if err := json.Unmarshal([]byte(r.out), &card); err != nil || card.Schema != "unicrux.card/1" ||
		len(card.Sides) != 2 || !card.Sides[1].Ready || strings.Contains(r.out, token) {
		t.Errorf("%v: %s", err, r)
	}
	fields := map[string]string{}
	for _, f := range card.Sides[1].Fields {
		fields[f.Name] = f.Value + f.Token
	}
	// What it says is true: git gets through with just that.
	url := strings.Replace(p.cloneHTTPS("buoys/drift-model"), "https://", "https://"+fields["user"]+":"+token+"@", 1)
	if r := p.git("-c", "credential.helper=", "-c", "http.sslCAInfo="+fields["authority"], "ls-remote",
		url); r.exit != 0 {
		t.Errorf("by the card: %s", r)
	}
	if r := p.onTerminal(nil, "card", "forge", "--copy", "server"); r.exit != 0 ||
		!strings.Contains(r.out, "\x1b]52;c;MTI3LjAuMC4x\a") {
		t.Errorf("copying a field: %q", r.out)
	}
	if r := p.onTerminal([]string{"\n"}, "card", "forge", "--by", "https", "--copy", "password"); r.exit != 0 ||
		!strings.HasSuffix(strings.TrimSpace(r.out), "\x1b]52;c;\a") || strings.Contains(r.out, token) {
		t.Errorf("copying a secret until Enter: %q", r.out)
	}
	if r := p.must("card", "forge", "--by", "ssh", "--key-format", "pkcs8", "--no-passphrase"); !strings.Contains(r.out,
		p.path(".ssh", "forge_ed25519.pkcs8")) || !strings.Contains(p.read(".ssh", "forge_ed25519.pkcs8"),
		"BEGIN PRIVATE KEY") {
		t.Errorf("in another form: %s", r)
	}
	if r := p.unicrux("card", "forge", "--copy", "nonsense"); r.exit != 2 {
		t.Errorf("a field that there is not: %s", r)
	}
	if r := p.must("look", "tokens"); !strings.Contains(r.out, "in 90 days") {
		t.Errorf("look tokens: %s", r)
	}
	if r := p.must("look"); !strings.Contains(r.out, "token forge") {
		t.Errorf("look: %s", r)
	}
}

// TestDamagedChest reports a damaged file, sets it aside, and goes on with the others.
func TestDamagedChest(t *testing.T) {
	t.Parallel()
	p := withHost(t).withChest()
	p.newToken()
	p.must("token", "add", "forge", "--from", p.host.TokenFile())
	p.write("half of", ".local", "share", "unicrux", "chest", "entries", "forge-2.json")
	if r := p.must("token", "list"); !strings.Contains(r.err, "damaged") || !strings.Contains(r.out, "forge") {
		t.Errorf("list: %s", r)
	}
	if r := p.must("chest", "show"); !strings.Contains(r.out, "unicrux chest show --set-aside") {
		t.Errorf("show: %s", r)
	}
	if r := p.must("chest", "show", "--set-aside"); !strings.Contains(r.err, "forge-2.json.damaged-") ||
		strings.Contains(r.out, "damaged") {
		t.Errorf("set aside: %s", r)
	}
	p.openChest()
	p.mustGit("ls-remote", p.cloneHTTPS("buoys/drift-model"))
}

// TestForesight speaks of the end of a token in git's own output, once a day.
func TestForesight(t *testing.T) {
	t.Parallel()
	p := withHost(t).withChest()
	if r := p.newToken("--until", "9d"); r.exit != 0 {
		t.Fatal(r)
	}
	p.openChest()
	url := p.cloneHTTPS("buoys/drift-model")
	words := "The token forge expires in 9 days"
	if r := p.mustGit("ls-remote", url); !strings.Contains(r.err, words) ||
		!strings.Contains(r.err, "unicrux token renew forge") {
		t.Errorf("the first time: %s", r)
	}
	if r := p.mustGit("ls-remote", url); strings.Contains(r.err, words) {
		t.Errorf("the second time: %s", r)
	}
	if c := p.check(url); !c.Open || len(c.Notes) != 1 || c.Notes[0].Code != "token-ends-soon" {
		t.Errorf("check: %+v", c)
	}
	if r := p.must("look"); !strings.Contains(r.out, "Renew the token forge") {
		t.Errorf("look: %s", r)
	}
}

// TestKilledWhileKeeping kills programs that keep tokens at every instant: what was kept before
// is there, the chest can be read, and what was reported as kept is kept.
func TestKilledWhileKeeping(t *testing.T) {
	t.Parallel()
	p := withHost(t).withChest()
	if r := p.newToken(); r.exit != 0 {
		t.Fatal(r)
	}
	p.openChest()
	host := p.webHost()
	keep := func(name string, within time.Duration) error {
		cmd := exec.Command(program, "for-git", "credential", "store")
		cmd.Dir, cmd.Env = p.home, p.environ()
		cmd.Stdin = strings.NewReader(fmt.Sprintf("protocol=https\nhost=%s\nusername=u%s\npassword=secret-%s\n",
			host, name, name))
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		killed := time.AfterFunc(within, func() { _ = cmd.Process.Kill() })
		defer killed.Stop()
		return cmd.Wait()
	}
	var whole time.Duration // how long it takes here and now, at most
	for i := range 5 {
		start := time.Now()
		if err := keep(fmt.Sprint("whole", i), time.Minute); err != nil {
			t.Fatal(err)
		}
		whole = max(whole, time.Since(start))
	}
	kept := map[string]bool{}
	for i := range 200 {
		if keep(fmt.Sprint(i), 2*whole*time.Duration(i)/200) == nil {
			kept[fmt.Sprint(i)] = true
		}
	}
	if len(kept) == 0 || len(kept) == 200 {
		t.Errorf("%d of 200 came to their end: the kills meet nothing", len(kept))
	}
	for i := range kept {
		r := p.run("protocol=https\nhost="+host+"\nusername=u"+i+"\n", program, "for-git", "credential", "get")
		if !strings.Contains(r.out, "password=secret-"+i+"\n") {
			t.Errorf("u%s was kept, and is not there: %s", i, r)
		}
	}
	if r := p.must("chest", "show", "--json"); !strings.Contains(r.out, `"damaged": false`) {
		t.Error(r)
	}
	if r := p.run("protocol=https\nhost="+host+"\nusername=ines.marlow\n", program, "for-git", "credential",
		"get"); !strings.Contains(r.out, "password=tide-") {
		t.Errorf("what was there before: %s", r)
	}
}

// TestFirstUseAtOnce: of several programs that give the chest its first passphrase at the same time, all
// go on with it when it is the same one, and every secret is kept.
func TestFirstUseAtOnce(t *testing.T) {
	t.Parallel()
	p := withHost(t).withChest()
	secrets := map[string]string{}
	for _, purpose := range []string{"clone", "push", "keys", "repos"} {
		secrets[purpose] = p.host.Issue("ines.marlow", "first-"+purpose,
			[]string{"repo:read", "repo:write", "keys", "repos"}, time.Time{})
	}
	var wait sync.WaitGroup
	for purpose, text := range secrets {
		wait.Go(func() {
			if r := p.run(text, program, "token", "add", "forge", "--from", "-", "--for", purpose,
				"--chest-passphrase-from", p.path("chest-words")); r.exit != 0 {
				t.Error(r)
			}
		})
	}
	wait.Wait()
	p.openChest()
	var list struct{ Tokens []struct{ Name string } }
	if err := json.Unmarshal([]byte(p.must("token", "list", "--json").out), &list); err != nil ||
		len(list.Tokens) != len(secrets) {
		t.Fatalf("%+v, %v", list, err)
	}
	for _, token := range list.Tokens {
		p.must("token", "test", token.Name)
	}
}

// TestChestOpenSaysWhenItIsNot: where nobody can keep the chest open, it is not said to be.
func TestChestOpenSaysWhenItIsNot(t *testing.T) {
	t.Parallel()
	p := withHost(t).withChest()
	if r := p.newToken(); r.exit != 0 {
		t.Fatal(r)
	}
	p.must("holder", "stop")
	if err := os.RemoveAll(p.path(".local", "state", "unicrux", "run")); err != nil {
		t.Fatal(err)
	}
	p.write("no folder", ".local", "state", "unicrux", "run")
	r := p.unicrux("chest", "open", "--passphrase-from", p.path("chest-words"))
	if r.exit != 3 || strings.Contains(r.out, "is open until") || !strings.Contains(r.err, "the holder does not run") {
		t.Error(r)
	}
}
