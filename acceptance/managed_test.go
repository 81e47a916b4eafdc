package acceptance

import (
	"strings"
	"testing"
)

// TestManagedHost: the administrator describes a host for everybody on the machine. A newcomer needs no host add; what
// she adds herself counts for her; what others could have written counts for nobody.
func TestManagedHost(t *testing.T) {
	t.Parallel()
	p := beside(t, "forge")
	host := p.host
	p.write("# mine\n", ".ssh", "config")
	p.write(p.read2(host.DescriptionFile()), ".machine", "hosts", "forge.toml")
	file := p.path(".machine", "hosts", "forge.toml")
	p.chmod(0o755, ".machine", "hosts")
	p.chmod(0o666, ".machine", "hosts", "forge.toml")
	if r := p.must("host", "list"); strings.Contains(r.out, "Tidewater") ||
		!strings.Contains(r.out+r.err, "others than the administrator can write it") {
		t.Errorf("anybody could have written it: %s", r)
	}
	p.chmod(0o644, ".machine", "hosts", "forge.toml")
	r := p.must("host", "show", "forge")
	if !strings.Contains(r.out, "administrator") || !strings.Contains(r.out, file) {
		t.Errorf("shown: %s", r)
	}
	p.must("ready", drift, "--token-from", host.TokenFile(), "--no-passphrase")
	p.mustGit("-C", p.path("drift-model"), "fetch")
	for _, command := range []string{"drop", "refresh"} {
		if r := p.unicrux("host", command, "forge"); r.exit != 1 || !strings.Contains(r.err, file) {
			t.Errorf("%s: %s", command, r)
		}
	}
	p.must("host", "set", "forge", "keep-alive=30")
	p.must("undo")
	p.must("host", "add", host.DescriptionFile(), "--yes")
	if r := p.must("host", "show", "forge"); strings.Contains(r.out, "administrator") {
		t.Errorf("her own counts: %s", r)
	}
	p.must("host", "drop", "forge")
	if r := p.must("host", "show", "forge"); !strings.Contains(r.out, "administrator") {
		t.Errorf("without her own: %s", r)
	}
}
