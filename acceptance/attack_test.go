package acceptance

import (
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
)

// An attack is one that a person may meet. play plays it against the built program, and says for
// each part of it that succeeded how; nothing where all are held.
type attack struct {
	name string
	play func(p *person) []string
}

// attacks are all that are played, by what an attacker has in hand.
var attacks = slices.Concat(descriptionAttacks, sshAttacks, webAttacks, recordAttacks, localAttacks, heldAttacks)

// TestAttacks plays every attack. "make attack" shows a line for each: held, or BROKEN.
func TestAttacks(t *testing.T) {
	t.Parallel()
	var mu sync.Mutex
	lines := map[string]string{}
	t.Cleanup(func() {
		if file := os.Getenv("UNICRUX_ATTACKS"); file != "" {
			if err := os.WriteFile(file, []byte(attackReport(lines)), 0o600); err != nil {
				t.Error(err)
			}
		}
	})
	for i, a := range attacks {
		t.Run(strconv.Itoa(i), func(t *testing.T) { // the name gets into paths, and a socket's is short
			t.Parallel()
			broken := a.play(newPerson(t))
			for _, how := range broken {
				t.Error(a.name + ": " + how)
			}
			mu.Lock()
			defer mu.Unlock()
			if lines[a.name] = "held"; len(broken) > 0 || t.Failed() {
				lines[a.name] = "BROKEN"
			}
		})
	}
}

func attackReport(lines map[string]string) string {
	var b strings.Builder
	broken := 0
	for _, a := range attacks {
		if lines[a.name] == "" { // it ended before it could tell
			lines[a.name] = "BROKEN"
		}
		if lines[a.name] != "held" {
			broken++
		}
		fmt.Fprintf(&b, "%-7s %s\n", lines[a.name], a.name)
	}
	fmt.Fprintf(&b, "\n%d attacks, %d broken.\n", len(attacks), broken)
	return b.String()
}

// leaks looks for a secret in what a command printed.
func (r result) leaks(words ...string) bool {
	return slices.ContainsFunc(words, func(word string) bool {
		return word != "" &&
			strings.Contains(r.out+r.err, word)
	})
}

// withForge starts a practice host and describes it.
func (p *person) withForge() *person {
	other := at(p.t, "forge")
	other.extra, other.folder = p.extra, other.home
	*p = *other
	return p.withChest()
}

// token keeps a token for the forge in an open chest, and returns it.
func (p *person) token() string {
	p.t.Helper()
	if r := p.newToken(); r.exit != 0 {
		p.t.Fatal(r)
	}
	p.openChest()
	text := strings.TrimSpace(p.must("token", "show", "forge", "--reveal").out)
	if !strings.HasPrefix(text, "tide-") {
		p.t.Fatalf("the token: %q", text)
	}
	return text
}

// asGit asks the helper as git does.
func (p *person) asGit(host string) result {
	p.t.Helper()
	return p.run("protocol=https\nhost="+host+"\n\n", program, "for-git", "credential", "get")
}

// replaceIn gives the text of the forge's description with some words replaced, in a file.
func (p *person) replaceIn(file string, pairs ...string) string {
	p.t.Helper()
	text := p.read2(p.host.DescriptionFile())
	for i := 0; i < len(pairs); i += 2 {
		if !strings.Contains(text, pairs[i]) {
			p.t.Fatalf("the description has no %q:\n%s", pairs[i], text)
		}
	}
	p.write(strings.NewReplacer(pairs...).Replace(text), file)
	return p.path(file)
}
