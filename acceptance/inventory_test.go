package acceptance

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"anchorage.example/unicrux/render/document"
)

// A database is a PostgreSQL of its own, which only listens on a socket in its folder.
type database struct {
	t   *testing.T
	dir string
}

// nobodyID is who runs it: it refuses to run as root.
const nobodyID = 65534

func newDatabase(t *testing.T) *database {
	t.Helper()
	found, err := filepath.Glob("/usr/lib/postgresql/*/bin/initdb")
	if err != nil || len(found) == 0 {
		need(t, "initdb") // of another system
		found = []string{need(t, "initdb")}
	}
	dir, err := os.MkdirTemp("", "unicrux-sql-") // the name of a socket must be short
	if err != nil {
		t.Fatal(err)
	}
	db := &database{t, dir}
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	if os.Geteuid() == 0 {
		if err := os.Chown(dir, nobodyID, nobodyID); err != nil {
			t.Fatal(err)
		}
	}
	bin := filepath.Dir(found[0])
	db.run(nil, found[0], "-D", dir+"/data", "-U", "unicrux", "-A", "trust", "--no-sync", "-E", "UTF8",
		"--locale=C.UTF-8")
	db.run(nil, filepath.Join(bin, "pg_ctl"), "-D", dir+"/data", "-w", "-l", dir+"/log", "-o",
		"-c listen_addresses='' -c unix_socket_directories="+dir+" -c fsync=off", "start")
	t.Cleanup(func() { db.run(nil, filepath.Join(bin, "pg_ctl"), "-D", dir+"/data", "-m", "immediate", "stop") })
	return db
}

// run runs a program of the database's.
func (db *database) run(input []byte, name string, args ...string) string {
	db.t.Helper()
	words := append([]string{name}, args...)
	if os.Geteuid() == 0 {
		id := fmt.Sprint(nobodyID)
		words = append([]string{need(db.t, "setpriv"), "--reuid=" + id, "--regid=" + id, "--clear-groups"}, words...)
	}
	cmd := exec.Command(words[0], words[1:]...)
	cmd.Dir, cmd.Env, cmd.Stdin = db.dir, []string{"PATH=" + os.Getenv("PATH"), "HOME=" + db.dir, "LC_ALL=C.UTF-8"},
		bytes.NewReader(input)
	out, err := cmd.Output()
	if err != nil {
		log, _ := os.ReadFile(db.dir + "/log")
		said := []byte{}
		if exit, ok := err.(*exec.ExitError); ok { //nolint:errorlint // as it is
			said = exit.Stderr
		}
		db.t.Fatalf("%s: %v: %s%s%s", name, err, out, said, log)
	}
	return string(out)
}

// sql runs statements, and returns what they select: a line for each row.
func (db *database) sql(input []byte, statement string) string {
	db.t.Helper()
	return strings.TrimSpace(db.run(input, need(db.t, "psql"), "-h", db.dir, "-U", "unicrux", "-d", "postgres",
		"-X", "-q",
		"-A", "-t", "-v", "ON_ERROR_STOP=1", "-c", statement))
}

// TestInventory: what PostgreSQL says of the reports of many machines by the schema is what gather says: which are
// silent, which keys are on several, how many findings there are of each rule.
func TestInventory(t *testing.T) {
	t.Parallel()
	db, p := newDatabase(t), settled(t)
	p.write("[http]\n\tsslVerify = false\n", ".gitconfig")
	p.fleetOf(2000, p.oneReport(), "reports")
	var reports bytes.Buffer
	files, err := filepath.Glob(p.path("reports", "*"))
	if err != nil {
		t.Fatal(err)
	}
	for _, file := range files {
		reports.WriteString(p.read("reports", filepath.Base(file)))
	}
	expect := "lost-1\nlost-2\n"
	for i := range 2000 {
		expect += fmt.Sprintf("buoy-%04d\n", i)
	}
	p.write(expect, "expect")
	schema := p.must("audit", "schema").out
	for range 2 { // it can be run again
		db.run([]byte(schema), need(t, "psql"), "-h", db.dir, "-U", "unicrux", "-d", "postgres", "-X", "-q", "-v",
			"ON_ERROR_STOP=1")
	}
	for range 2 { // and reports may be loaded twice
		db.sql(reports.Bytes(), `\copy unicrux_report (document) from stdin csv quote e'\x01' delimiter e'\x02'`)
	}
	db.sql([]byte(expect), `\copy unicrux_expected from stdin`)
	var d document.Gather
	r := p.unicrux("audit", "gather", p.path("reports"), "--expect", p.path("expect"), "--json")
	if err := json.Unmarshal([]byte(r.out), &d); err != nil {
		t.Fatalf("%v: %s", err, r)
	}
	copied := ""
	for _, f := range d.Findings {
		if f.Code == "key-copied" {
			copied += f.Thing + "|2000\n"
		}
	}
	rules := ""
	for _, rule := range d.Rules {
		rules += fmt.Sprintf("%s|%d|%d\n", rule.Code, rule.Count, rule.Machines)
	}
	sorted := func(text string) string {
		lines := strings.Split(strings.TrimSpace(text), "\n")
		slices.Sort(lines)
		return strings.Join(lines, "\n")
	}
	for _, row := range []struct{ what, sql, want string }{
		{"silent", "select machine from unicrux_silent", strings.Join(d.Silent, "\n")},
		{"machines", "select count(*) from unicrux_machine", fmt.Sprint(d.Reported)},
		{"copied", "select fingerprint, machines from unicrux_copied_key", copied},
		{"rules",
			"select code, count(*), count(distinct machine) from unicrux_finding where not excepted group by code",
			rules},
		{"endings", "select count(*) from unicrux_ending", "0"},
		{"over time", "select code, findings from unicrux_finding_over_time where code = 'tls-unchecked'",
			"tls-unchecked|4000"},
	} {
		if got := db.sql(nil, row.sql); sorted(got) != sorted(row.want) || row.want == "" {
			t.Errorf("%s: SQL says\n%s\ngather says\n%s", row.what, got, row.want)
		}
	}
}
