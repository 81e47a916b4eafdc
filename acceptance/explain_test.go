package acceptance

import (
	"strings"
	"testing"
)

// TestExplainCode asks what a code means, and for words that are none.
func TestExplainCode(t *testing.T) {
	t.Parallel()
	p := newPerson(t)
	r := p.unicrux("explain", "key-not-registered")
	if r.exit != 0 || !strings.Contains(r.out, "key-not-registered (at the stage sign-in)") ||
		!strings.Contains(r.out, "mend") {
		t.Errorf("%s", r)
	}
	p.write("ssh: connect to host forge.tidewater.example port 22: Connection refused\n", "key-none")
	if r := p.unicrux("explain", p.path("key-none")); !strings.Contains(r.out, "refuse") {
		t.Errorf("a file whose name is a code: %s", r)
	}
	for name, says := range map[string]string{"key-nothing": "key-not-registered", "nothing": "pipe it in"} {
		if r := p.unicrux("explain", name); r.exit != 2 ||
			!strings.Contains(strings.Join(strings.Fields(r.err), " "), says) {
			t.Errorf("explain %s: %s", name, r)
		}
	}
	if read := p.explain("", "tls-ended"); !read.Conclusive || read.codes()[0] != "tls-ended" {
		t.Errorf("%+v", read)
	}
}
