package acceptance

import (
	"encoding/json"
	"fmt"
	"os/exec"
	"strings"
	"testing"
	"time"

	"anchorage.example/unicrux/render/document"
)

// fleetOf writes reports as of so many machines, made of one: three on each line of a file, the names counted.
func (p *person) fleetOf(n int, from document.Audit, folder string) {
	p.t.Helper()
	var b strings.Builder
	for i := range n {
		d := from
		id := fmt.Sprintf("id%d", i)
		d.Machine.Name, d.Machine.ID, d.When = fmt.Sprintf("buoy-%04d", i), &id, time.Now().UTC().Truncate(time.Second)
		text, err := json.Marshal(d)
		if err != nil {
			p.t.Fatal(err)
		}
		if b.Write(append(text, '\n')); i%100 == 99 || i == n-1 {
			p.write(b.String(), folder, fmt.Sprintf("part%05d.ndjson", i))
			b.Reset()
		}
	}
}

// oneReport is the report of this home.
func (p *person) oneReport() (d document.Audit) {
	p.t.Helper()
	p.unicrux("audit", "--out", p.path("one.json"))
	if err := json.Unmarshal([]byte(p.read("one.json")), &d); err != nil {
		p.t.Fatal(err)
	}
	return d
}

// TestGather: of 200 machines, 7 did not report. They are the first that is told, and nothing on them is gone; whatever
// a file holds, the others are read all the same.
func TestGather(t *testing.T) {
	t.Parallel()
	p := settled(t)
	p.write("[http]\n\tsslVerify = false\n", ".gitconfig")
	p.fleetOf(200, p.oneReport(), "before")
	expect := ""
	for i := range 200 {
		expect += fmt.Sprintf("buoy-%04d\n", i)
	}
	p.write(expect+"# all of them\n", "expect")
	if r := p.unicrux("audit", "gather", p.path("before"), "--expect", p.path("expect"), "--out",
		p.path("before.json")); r.exit != 1 || !strings.Contains(r.out, "200 machines reported.") {
		t.Fatalf("all of them: %s", r)
	}
	p.write("", ".gitconfig")
	p.fleetOf(193, p.oneReport(), "after")
	r := p.unicrux("audit", "gather", p.path("after"), "--expect", p.path("expect"), "--against", p.path("before.json"),
		"--metrics", p.path("many.prom"))
	if r.exit != 1 || !strings.Contains(r.out, "193 machines reported; 7 silent") ||
		!strings.Contains(r.out, "buoy-0193, buoy-0194, buoy-0195, buoy-0196, buoy-0197, buoy-0198, buoy-0199\n") {
		t.Errorf("seven are silent: %s", r)
	}
	var d document.Gather
	r = p.unicrux("audit", "gather", p.path("after"), "--against", p.path("before.json"), "--json")
	if err := json.Unmarshal([]byte(r.out), &d); err != nil || d.Against == nil {
		t.Fatalf("%v: %s", err, r)
	}
	for _, rule := range d.Against.Rules {
		if rule.Code == "tls-unchecked" && (rule.Gone != 193 || rule.NotSeen != 7 || rule.New+rule.Still > 0) {
			t.Errorf("%+v", rule)
		}
	}
	cmd := exec.Command(need(t, "promtool"), "check", "metrics")
	cmd.Stdin = strings.NewReader(p.read("many.prom"))
	if out, err := cmd.CombinedOutput(); err != nil || strings.Contains(p.read("many.prom"), "buoy") {
		t.Errorf("promtool: %v: %s", err, out)
	}
	for name, text := range map[string]string{"empty": "", "other": `{"schema":"unicrux.look/1"}`,
		"half": p.read("one.json")[:99],
		"list": "[]", "nul": "\x00"} {
		p.write(text, "after", name+".json")
	}
	p.write(`{"schema":"unicrux.audit/1","machine":{"name":"\u001b[2Jevil"},"findings":[{"code":"\u001b]0;x","level":"\"}"}]}`,
		"after", "evil.json")
	r = p.unicrux("audit", "gather", p.path("after"), "--json")
	if err := json.Unmarshal([]byte(r.out), &d); err != nil || r.exit != 3 || len(d.Unread) != 5 || d.Reported != 194 {
		t.Errorf("%v: %d unread, %d reported, exit %d", err, len(d.Unread), d.Reported, r.exit)
	}
	if r := p.unicrux("audit", "gather", p.path("after"), "--metrics", p.path("many.prom")); strings.Contains(r.out+
		p.read("many.prom"), "\x1b") {
		t.Errorf("a report steers the terminal: %q", r.out)
	}
	for _, args := range [][]string{{}, {p.path("nowhere")}, {p.path("after"), "--expect", p.path(".gitconfig")},
		{p.path("after"), "--against", p.path("one.json")}} {
		if r := p.unicrux(append([]string{"audit", "gather"}, args...)...); r.exit != 2 && r.exit != 3 || r.out != "" {
			t.Errorf("%v: %s", args, r)
		}
	}
}
