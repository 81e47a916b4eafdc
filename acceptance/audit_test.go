package acceptance

import (
	"encoding/json"
	"strings"
	"testing"

	"anchorage.example/unicrux/render/document"
)

// TestAudit: the built program looks at a home, writes what it is asked to and nothing else, and says by its exit code
// how it stands.
func TestAudit(t *testing.T) {
	t.Parallel()
	p := settled(t)
	p.write("[http]\n\tsslVerify = false\n", ".gitconfig")
	before := len(p.changes())
	r := p.unicrux("audit", "--out", p.path("first.json"), "--metrics", p.path("unicrux.prom"))
	if r.exit != 1 || !strings.Contains(r.out, "tls-unchecked") || !strings.Contains(r.out, "~/.gitconfig:2") {
		t.Fatalf("something must be mended: %s", r)
	}
	var d document.Audit
	if err := json.Unmarshal([]byte(p.read("first.json")), &d); err != nil || len(d.Homes) != 1 ||
		len(d.Homes[0].Keys) == 0 {
		t.Fatalf("%v: %+v", err, d)
	}
	if metrics := p.read("unicrux.prom"); !strings.Contains(metrics,
		`unicrux_findings{code="tls-unchecked",level="must"} 1`) ||
		strings.Contains(metrics, "ines") || strings.Contains(metrics, p.home) {
		t.Errorf("the figures: %s", metrics)
	}
	p.write("", ".gitconfig")
	if r := p.unicrux("audit", "--against", p.path("first.json")); r.exit != 0 || !strings.Contains(r.out, "1 gone") {
		t.Errorf("it was mended: %s", r)
	}
	for _, row := range []struct {
		args []string
		exit int
		says string
	}{
		{[]string{"--against", p.path("unicrux.prom")}, 2, "no report of audit"},
		{[]string{"--against", p.path("nowhere")}, 3, "nowhere"},
		{[]string{"--policy", p.path("nowhere")}, 3, "nowhere"},
		{[]string{"--policy", p.path("first.json")}, 3, "line 1"},
		{[]string{"--all-homes", "--home", p.home}, 2, "not at both"},
		{[]string{"--home", p.path("first.json")}, 2, "not the folder of an account"},
	} {
		if r := p.unicrux(append([]string{"audit"}, row.args...)...); r.exit != row.exit ||
			!strings.Contains(r.out+r.err, row.says) {
			t.Errorf("%v: %s", row.args, r)
		}
	}
	if after := len(p.changes()); after != before {
		t.Errorf("%d changes were recorded", after-before)
	}
}
