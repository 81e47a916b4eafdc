package acceptance

import (
	"strings"
	"testing"

	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/standin"
)

// TestFaults lets the practice host do wrong what it can be told to: the real git fails, check
// names the code, explain reads git's own words, and without the fault the way is open.
func TestFaults(t *testing.T) {
	t.Parallel()
	for _, f := range standin.Faults() {
		for _, by := range strings.Split(f.By, ", ") {
			t.Run(f.Code+" by "+by, func(t *testing.T) {
				t.Parallel()
				p := settled(t).withChest()
				url := drift
				if by == "https" {
					p.ownToken()
					url = p.cloneHTTPS("buoys/drift-model")
				}
				p.mustGit("clone", "--quiet", url)
				p.folder = p.path("drift-model")
				p.commitIn(".", "tide")
				if err := p.host.Begin(f.Code); err != nil {
					t.Fatal(err)
				}
				if f.Code == "port-silent" && by == "ssh" {
					p.write(p.read(".ssh", "config")+"ConnectTimeout 1\n", ".ssh", "config")
				}
				p.finds(f.Code)
				failed := p.run("", "timeout", "5", "git", "push") // git would wait for minutes where nobody answers
				if failed.exit == 0 {
					t.Fatalf("the real client does not fail: %s", failed)
				}
				if f.Code != "port-silent" || by == "ssh" {
					p.explains(failed, f.Code)
				}
				if err := p.host.Begin(); err != nil {
					t.Fatal(err)
				}
				if strings.HasPrefix(f.Code, "token-") { // what the host did not take was thrown away
					p.ownToken()
				}
				p.mustGit("push", "--quiet")
				if c := p.check("--for", "push"); !c.Open {
					t.Errorf("without the fault the crux is %+v", c.Crux)
				}
			})
		}
	}
}

// finds holds check of a plain push against the code.
func (p *person) finds(code string) {
	p.t.Helper()
	before := p.everything()
	c := p.check("--timeout", "2s")
	if p.everything() != before {
		p.t.Error("check changed something")
	}
	if stageOf(code) == causes.Beyond || code == "branch-protected" { // only a push tells
		if !c.Open {
			p.t.Errorf("the crux is %+v", c.Crux)
		}
		return
	}
	p.performed(code, c).mended = others
	if c.Open || c.Crux.Code != code {
		p.t.Errorf("the crux is %+v, want %s", c.Crux, code)
	}
}

func TestFaultsAreTold(t *testing.T) {
	t.Parallel()
	p := newPerson(t)
	r := p.must("practice", "faults")
	for _, f := range standin.Faults() {
		if stageOf(f.Code) == "" || !strings.Contains(r.out, f.Code) {
			t.Errorf("%s is no code of the catalogue, or is not listed: %s", f.Code, r)
		}
	}
	if r := p.unicrux("practice", "serve", "--fault", "leaking"); r.exit != 2 ||
		!strings.Contains(r.err, "practice faults") {
		t.Errorf("an unknown fault: %s", r)
	}
}
