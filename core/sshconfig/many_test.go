package sshconfig

import (
	"math/rand/v2"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// TestReadOnce: what is read once for many hosts tells each of them what reading anew does.
func TestReadOnce(t *testing.T) {
	t.Parallel()
	for seed := range rounds() {
		dir := t.TempDir()
		g := &generator{Rand: rand.New(rand.NewPCG(uint64(seed), 11)), dir: dir, every: seed%2 == 0}
		text := g.config(0) + g.pick("", "Host lantern\n  Prot 22\n", "Host lantern\n  StreamLocalBindMask 022\n",
			"Host lantern forge lantern\n  User ines\n")
		config := filepath.Join(dir, "config")
		if err := os.WriteFile(config, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		files := &Files{}
		for _, host := range []string{"forge", "lantern", "forge.tidewater.example", "nobody", "forge"} {
			query := Query{Host: host, Command: CommandLine{Config: config}, Person: person(t)}
			anew := Resolve(query)
			query.Files = files
			again := Resolve(query)
			if !reflect.DeepEqual(anew.Client(), again.Client()) ||
				!reflect.DeepEqual(anew.Problems, again.Problems) || !reflect.DeepEqual(anew.Unknown, again.Unknown) ||
				!sameLost(anew, again) {
				t.Fatalf("seed %d, host %s: anew\n%+v\n%+v\nagain\n%+v\n%+v\n%s", seed, host, anew.Client(),
					anew.Problems, again.Client(), again.Problems, show(dir))
			}
		}
	}
}

// TestMayLead passes over no name whose settings lead there.
func TestMayLead(t *testing.T) {
	t.Parallel()
	passed := 0
	for seed := range rounds() {
		dir := t.TempDir()
		g := &generator{Rand: rand.New(rand.NewPCG(uint64(seed), 13)), dir: dir}
		text := "Host bay\n  HostName quay\nHost reef shoal\n  User git\n" + g.config(0)
		config := filepath.Join(dir, "config")
		if err := os.WriteFile(config, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		query := Query{Command: CommandLine{Config: config}, Person: person(t), Files: &Files{}}
		names := HostNames(query)
		if anew := HostNames(Query{Command: query.Command, Person: query.Person}); !slices.Equal(names, anew) {
			t.Fatalf("seed %d: %v, reading anew %v", seed, names, anew)
		}
		for _, name := range names {
			query.Host = name
			leads := Resolve(query).Client().HostName
			some := query.Files.MayLead(names, func(hostName string) bool { return strings.EqualFold(hostName, leads) })
			if anew := Resolve(Query{Host: "nobody", Command: query.Command,
				Person: query.Person}); !anew.MayName([]string{leads}) {
				t.Fatalf("seed %d: %s leads to %s, and no file may\n%s", seed, name, leads, show(dir))
			}
			if passed += len(names) - len(some); !slices.Contains(some, name) {
				t.Fatalf("seed %d: %s leads to %s, and is passed over\n%s", seed, name, leads, show(dir))
			}
		}
	}
	if passed == 0 {
		t.Error("nothing is ever passed over")
	}
}

// sameLost compares what came too late, but for the turns.
func sameLost(a, b *Settings) bool {
	flat := func(s *Settings) map[string][]string {
		m := map[string][]string{}
		for keyword, values := range s.lost {
			for _, v := range values {
				m[keyword] = append(m[keyword], v.Text()+v.Origin.String())
			}
		}
		return m
	}
	return reflect.DeepEqual(flat(a), flat(b))
}

// TestReadOnceSaysWhatIsWrong with a file as reading anew does.
func TestReadOnceSaysWhatIsWrong(t *testing.T) {
	t.Parallel()
	home := t.TempDir()
	config := filepath.Join(home, ".ssh", "config")
	if err := os.MkdirAll(filepath.Dir(config), 0o700); err != nil {
		t.Fatal(err)
	}
	for name, make := range map[string]func() error{
		"none":        func() error { return nil },
		"others":      func() error { return os.WriteFile(config, []byte("Port 77\n"), 0o622) },
		"a folder":    func() error { return os.Mkdir(config, 0o700) },
		"much of it":  func() error { return os.WriteFile(config, []byte(strings.Repeat("#\n", maxFileBytes)), 0o600) },
		"into itself": func() error { return os.WriteFile(config, []byte("Include config\n"), 0o600) },
	} {
		if err := make(); err != nil {
			t.Fatal(err)
		}
		if name == "others" { // whatever the umask says
			if err := os.Chmod(config, 0o622); err != nil {
				t.Fatal(err)
			}
		}
		me := person(t)
		me.Home, me.System = home, filepath.Join(home, "system")
		anew, again := Resolve(Query{Host: "x", Person: me}), Resolve(Query{Host: "x", Person: me, Files: &Files{}})
		if len(anew.Problems) != len(again.Problems) || len(anew.Problems) > 0 &&
			anew.Problems[0].Err.Error() != again.Problems[0].Err.Error() {
			t.Errorf("%s: %+v, again %+v", name, anew.Problems, again.Problems)
		}
		if err := os.RemoveAll(config); err != nil {
			t.Fatal(err)
		}
	}
}

// BenchmarkManyHosts asks about every one of many hosts: per host it costs the same, however many
// there are.
func BenchmarkManyHosts(b *testing.B) {
	for _, count := range []int{100, 1000, 10000} {
		config := filepath.Join(b.TempDir(), "config")
		var text strings.Builder
		for i := range count {
			text.WriteString("Host h" + strconv.Itoa(i) + "\n  HostName h" + strconv.Itoa(i) +
				".tidewater.example\n  User git\n\n")
		}
		if err := os.WriteFile(config, []byte(text.String()+"Host *\n  Port 2222\n"), 0o600); err != nil {
			b.Fatal(err)
		}
		b.Run(strconv.Itoa(count), func(b *testing.B) {
			for b.Loop() {
				query := Query{Command: CommandLine{Config: config}, Person: person(b), Files: &Files{}}
				for _, name := range HostNames(query) {
					query.Host = name
					if Resolve(query).Client().Port != 2222 {
						b.Fatal("not read")
					}
				}
			}
			b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/float64(count), "ns/host")
		})
	}
}
