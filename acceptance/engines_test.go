package acceptance

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"anchorage.example/unicrux/render/document"
)

// engineFiles are those that are shipped for engines.
const engineFiles = "../engines"

// serve starts an sshd on an island, for root, and returns its port.
func (l *island) serve(hostKey, publicLine string) int {
	l.t.Helper()
	port := freePort(l.t)
	l.write(publicLine, "authorized")
	l.write(fmt.Sprintf("ListenAddress 127.0.0.1:%d\nHostKey %s\nAuthorizedKeysFile %s\nPidFile none\nUsePAM no\n"+
		"StrictModes no\nPermitRootLogin yes\nSubsystem sftp internal-sftp\nSetEnv PATH=%s:/usr/sbin:/usr/bin:/sbin:/bin\n",
		port, hostKey, l.path("authorized"), l.dir), "sshd.conf")
	if err := os.MkdirAll(l.path("varlib"), 0o755); err != nil {
		l.t.Fatal(err)
	}
	script := `mount --bind "$0/etc" /etc && mount --bind "$0/root" /root && mount --bind "$0/varlib" /var/lib &&
exec "$1" -D -e -f "$0/sshd.conf"`
	cmd := exec.Command(need(l.t, "unshare"), "--mount", "sh", "-c", script, l.dir, need(l.t, "sshd"))
	var said bytes.Buffer
	cmd.Stderr = &said
	if err := cmd.Start(); err != nil {
		l.t.Fatal(err)
	}
	l.t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		if l.t.Failed() {
			l.t.Log("sshd said:\n" + said.String())
		}
	})
	eventually(l.t, "sshd", func() bool {
		conn, err := net.Dial("tcp", "127.0.0.1:"+strconv.Itoa(port))
		if err == nil {
			_ = conn.Close()
		}
		return err == nil
	})
	return port
}

// recap is what an engine says at the end of each machine: "NAME : ok=5 changed=1 unreachable=0 failed=0 …".
var recap = regexp.MustCompile(`(?m)^machine\d+ +: ok=\d+ +changed=(\d+) +unreachable=(\d+) +failed=(\d+)`)

// changedBy is how many things an engine changed on all machines, none of which failed.
func changedBy(t *testing.T, r result, machines int) (n int) {
	t.Helper()
	lines := recap.FindAllStringSubmatch(r.out, -1)
	if len(lines) != machines || r.exit != 0 {
		t.Fatalf("%d machines were reached: %s", len(lines), r)
	}
	for _, numbers := range lines {
		changed, err := strconv.Atoi(numbers[1])
		if n += changed; err != nil || numbers[2]+numbers[3] != "00" {
			t.Errorf("%s: %s", numbers[0], r)
		}
	}
	return n
}

// TestEngine: a configuration engine, over the real ssh and five sshd, each on a machine of its own, settles all of
// them by the shipped files, finds nothing to change the second time, knows facts, and brings the reports byte for
// byte.
func TestEngine(t *testing.T) {
	t.Parallel()
	const machines = 5
	p := newPerson(t)
	for _, name := range []string{"admin", "sshd_host"} {
		p.must("key", "new", name, "--no-passphrase")
	}
	islands := make([]*island, machines)
	inventory, known := "[all]\n", ""
	for i := range islands {
		islands[i] = newIsland(t)
		port := islands[i].serve(p.path(".ssh", "sshd_host"), p.must("key", "show", "admin", "--line").out)
		inventory += fmt.Sprintf("machine%d ansible_host=127.0.0.1 ansible_port=%d\n", i, port)
		known += fmt.Sprintf("[127.0.0.1]:%d %s", port, p.must("key", "show", "sshd_host", "--line").out)
	}
	inventory += fmt.Sprintf("[all:vars]\nansible_user=root\nansible_become=false\n"+
		"ansible_python_interpreter=/usr/bin/python3\nansible_ssh_private_key_file=%s\n"+
		"ansible_ssh_common_args='-F none -o UserKnownHostsFile=%s -o IdentitiesOnly=yes'\n", p.path(".ssh", "admin"),
		p.path("known"))
	p.write(inventory, "play", "inventory")
	p.write(known, "known")
	islands[0].copy(engineFiles+"/ansible/.", p.path("play"))
	p.write("unicrux = 1\nfleet = \"tidewater\"\nversion = \"7\"\n[[burned]]\nfingerprint = \"SHA256:"+
		strings.Repeat("A", 43)+"\"\nwhy = \"it leaked\"\n", "play", "state", "state.toml")
	run := func(args ...string) int {
		t.Helper()
		p.folder = p.path("play")
		p.extra = []string{"LC_ALL=C.UTF-8", "ANSIBLE_NOCOLOR=1", "ANSIBLE_PIPELINING=1",
			"ANSIBLE_SSH_ARGS=-o ControlMaster=auto -o ControlPersist=2s", "ANSIBLE_LIBRARY=" + p.path("play",
				"library")}
		return changedBy(t, p.run("", need(t, "ansible-playbook"), append([]string{"-i", "inventory", "machines.yml"},
			args...)...), machines)
	}
	if n := run(); n < machines {
		t.Errorf("only %d things were changed", n)
	}
	for i, l := range islands {
		if l.read("etc", "unicrux", "state.toml") == "" {
			t.Errorf("machine %d was not settled", i)
		}
		report, err := os.ReadFile(p.path("play", "reports", fmt.Sprintf("machine%d", i), "var/lib/unicrux/audit.json"))
		if err != nil || sha256.Sum256(report) != sha256.Sum256([]byte(l.read("varlib", "unicrux", "audit.json"))) {
			t.Errorf("the report of machine %d: %v", i, err)
		}
	}
	if n := run(); n != 0 {
		t.Errorf("the second run changed %d things", n)
	}
	if n := run("--check", "--diff"); n != 0 {
		t.Errorf("a check afterwards would change %d things", n)
	}
	r := p.run("", need(t, "ansible"), "-i", "inventory", "all", "-m", "setup", "-a", "filter=ansible_local")
	if strings.Count(r.out, islands[0].stateSum()) != machines {
		t.Errorf("the facts: %s", r)
	}
}

// stateSum is the SHA-256 of the state that was applied.
func (l *island) stateSum() string {
	return fmt.Sprintf("%x", sha256.Sum256([]byte(l.read("etc", "unicrux", "state.toml"))))
}

// TestEngineContract: arguments and answers of the module, without an engine.
func TestEngineContract(t *testing.T) {
	t.Parallel()
	l := newIsland(t)
	l.write("unicrux = 1\nfleet = \"tidewater\"\n", "state", "state.toml")
	ask := func(arguments string) (document.Apply, int) {
		t.Helper()
		l.write(arguments, "arguments")
		r := l.run(false, l.path("unicrux"), "for-engine", "state", l.path("arguments"))
		var d document.Apply
		if err := json.Unmarshal([]byte(r.out), &d); err != nil {
			t.Fatalf("%s: %v: %s", arguments, err, r)
		}
		return d, r.exit
	}
	file := strconv.Quote(l.path("state", "state.toml"))
	for _, row := range []struct {
		arguments       string
		exit            int
		changed, failed bool
		says            string
	}{
		{`{"state": ` + file + `, "_ansible_check_mode": true, "_ansible_version": "2.14"}`, 0, true, false,
			"Would change"},
		{`{"state": ` + file + `}`, 0, true, false, "Changed"},
		{`{"state": ` + file + `, "only": ["trust"], "homes": true}`, 0, false, false, "Nothing was changed"},
		{`{"state": ` + file + `, "stat": 1}`, 3, false, true, `"stat" is not known`},
		{`{"state": ` + file + `, "only": ["hosts"]}`, 3, false, true, "only=hosts"},
		{`{}`, 3, false, true, "state is missing"},
		{`[]`, 3, false, true, "no JSON object"},
		{`{"state": "/nowhere/state.toml"}`, 3, false, true, "/nowhere/state.toml"},
	} {
		d, exit := ask(row.arguments)
		if exit != row.exit || d.Changed != row.changed || d.Failed != row.failed || !strings.Contains(d.Message,
			row.says) {
			t.Errorf("%s: exit %d, %+v", row.arguments, exit, d)
		}
		if row.changed && (len(d.Diffs) == 0 || d.Diffs[0].AfterHeader == "") {
			t.Errorf("%s: no difference: %+v", row.arguments, d)
		}
	}
}

// TestUnits: systemd takes the shipped units, they let the service do little, and what they leave to root is enough
// for an audit of all homes. promtool takes the figures, and refuses them with a slip.
func TestUnits(t *testing.T) {
	t.Parallel()
	l := newIsland(t)
	units, err := filepath.Glob(engineFiles + "/systemd/*")
	if err != nil || len(units) != 2 {
		t.Fatalf("%v %v", units, err)
	}
	analyze := need(t, "systemd-analyze")
	args := []string{"verify", "--man=no"}
	for _, unit := range units {
		text, err := os.ReadFile(unit)
		if err != nil {
			t.Fatal(err)
		}
		l.write(strings.ReplaceAll(string(text), "/usr/bin/unicrux", l.path("unicrux")), filepath.Base(unit))
		args = append(args, l.path(filepath.Base(unit)))
	}
	if out, err := exec.Command(analyze, args...).CombinedOutput(); err != nil || len(out) > 0 {
		t.Errorf("verify: %v: %s", err, out)
	}
	out, err := exec.Command(analyze, "security", "--offline=true", "--threshold=35",
		l.path("unicrux-audit.service")).CombinedOutput()
	if err != nil {
		t.Errorf("security: %v: %s", err, out)
	}
	r := l.run(false, need(t, "setpriv"), "--bounding-set=-all,+setuid,+setgid", "--no-new-privs", l.path("unicrux"),
		"audit", "--all-homes", "--out", l.path("root", "audit.json"), "--metrics", l.path("root", "unicrux.prom"))
	var report document.Audit
	if err := json.Unmarshal([]byte(l.read("root", "audit.json")), &report); err != nil || !report.Complete ||
		len(report.Homes) < 2 {
		t.Errorf("with the rights that the unit leaves: %v: %s", err, r)
	}
	figures := l.read("root", "unicrux.prom")
	if n := strings.Count(figures, "\n"); n > 2*60 || strings.Contains(figures, "newcomer") {
		t.Errorf("%d lines:\n%s", n, figures)
	}
	for text, want := range map[string]bool{figures: true, strings.Replace(figures, " gauge", " guage", 1): false} {
		cmd := exec.Command(need(t, "promtool"), "check", "metrics")
		cmd.Stdin = strings.NewReader(text)
		if out, err := cmd.CombinedOutput(); (err == nil) != want {
			t.Errorf("promtool: %v: %s", err, out)
		}
	}
}
