package gather

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"anchorage.example/unicrux/core/audit"
	"anchorage.example/unicrux/core/policy"
)

var today = time.Date(2026, 12, 2, 12, 0, 0, 0, time.UTC)

// report is one of a machine, so many days old, with a finding of each code.
func report(name string, days int, codes ...string) Report {
	r := Report{File: name + ".json", Name: name, ID: "id-of-" + name, When: today.AddDate(0, 0, -days), Complete: true,
		Homes: 1}
	for _, code := range codes {
		r.Findings = append(r.Findings, audit.Finding{ID: code + "1", Code: code, Person: "ines",
			Level: policy.Policy{}.Rule(code).Level})
	}
	return r
}

func gathered(o Options, reports ...Report) *Together {
	o.Now = today
	g := New(o)
	for _, r := range reports {
		g.Add(r)
	}
	return g.Done()
}

func aboutAll(t *Together) (list []string) {
	for _, f := range t.Findings {
		list = append(list, fmt.Sprintf("%s %s %s", f.Code, f.Thing, f.Also))
	}
	return list
}

// TestTogether: silent machines are exactly those that are expected and did not report, whatever the order; old and
// incomplete reports, and keys on several machines, are told.
func TestTogether(t *testing.T) {
	t.Parallel()
	a, b, c := report("a", 0, policy.TLSUnchecked, policy.TLSUnchecked, policy.KeyOddPlace), report("b", 8),
		report("c", 1)
	c.Complete = false
	a.Keys = []Key{{"SHA256:x", "ines", "~/.ssh/x"}, {"SHA256:y", "ines", "~/.ssh/y"}, {"SHA256:y", "ines", "~/.ssh/z"}}
	b.Keys = []Key{{"SHA256:x", "lab", "~/.ssh/x"}, {"", "lab", "~/.ssh/other"}}
	c.Keys = []Key{{"", "mo", "~/.ssh/other"}}
	allowed := audit.Finding{ID: "e", Code: policy.TLSUnchecked, Level: policy.Must, Except: &policy.Exception{}}
	c.Findings = append(c.Findings, allowed)
	for _, reports := range [][]Report{{a, b, c}, {c, b, a}} {
		got := gathered(Options{Expect: []string{"a", "d", "c", "e"}}, reports...)
		if !slices.Equal(got.Silent, []string{"d", "e"}) || !slices.Equal(got.Extra, []string{"b"}) {
			t.Errorf("silent %v, not expected %v", got.Silent, got.Extra)
		}
		want := []string{"machine-silent d ", "machine-silent e ", "key-copied SHA256:x on a (ines), b (lab)",
			"report-incomplete c ", "report-old b 2026-11-24"}
		if about := aboutAll(got); !slices.Equal(about, want) {
			t.Errorf("%q, want %q", about, want)
		}
		if rule := got.Rules[0]; rule != (Rule{policy.TLSUnchecked, policy.Must, 2, 1, 1}) || len(got.Rules) != 2 {
			t.Errorf("%+v", got.Rules)
		}
		if m := got.Machines[0]; m.Must != 2 || m.Tell != 1 || !got.Wrong() || got.Whole() {
			t.Errorf("%+v", m)
		}
		if worst := Worst(got.Machines, 5); len(worst) != 1 || worst[0].Name != "a" {
			t.Errorf("%+v", worst)
		}
	}
	if quiet := gathered(Options{}, report("a", 0)); quiet.Wrong() || !quiet.Whole() || len(quiet.Silent) > 0 {
		t.Errorf("nothing is wrong: %+v", quiet)
	}
}

// TestPolicyOfMany: how old a report may be, and which incomplete ones are excused, is the policy's matter.
func TestPolicyOfMany(t *testing.T) {
	t.Parallel()
	rules, err := policy.Parse([]byte("unicrux = 1\n[rules]\nreport-old = { level = \"must\", days = 30 }\n" +
		"machine-silent = \"off\"\n[[except]]\nrule = \"report-incomplete\"\nthing = \"c\"\nuntil = 2026-12-31\nwhy = \"x\"\n"))
	if err != nil {
		t.Fatal(err)
	}
	c := report("c", 8)
	c.Complete = false
	got := gathered(Options{Policy: rules, Expect: []string{"c", "z"}}, c)
	if !got.Whole() || got.Wrong() || len(got.Silent) != 1 || len(got.Findings) != 1 || got.Findings[0].Except == nil {
		t.Errorf("%+v", got)
	}
	if got := gathered(Options{Policy: rules}, report("c", 31)); !got.Wrong() {
		t.Errorf("it is too old: %+v", got.Findings)
	}
}

// TestNewest: of two reports of one machine the newer one counts, with its keys; two machines of one name are two.
func TestNewest(t *testing.T) {
	t.Parallel()
	old, fresh, other := report("a", 3, policy.TLSUnchecked), report("a", 1), report("a", 2)
	old.Keys, fresh.Keys, other.ID = []Key{{"SHA256:x", "ines", "k"}}, []Key{{"SHA256:y", "ines", "k"}}, "another"
	other.Keys = []Key{{"SHA256:x", "ines", "k"}}
	for _, reports := range [][]Report{{old, fresh, other}, {fresh, other, old}, {other, old, fresh}} {
		got := gathered(Options{}, reports...)
		if len(got.Machines) != 2 || got.Older != 1 || got.Wrong() || len(got.Findings) > 0 {
			t.Errorf("%+v", got)
		}
	}
}

// TestAgainst: what nobody looked for is not gone.
func TestAgainst(t *testing.T) {
	t.Parallel()
	before := []Before{}
	for _, name := range []string{"a", "silent", "part", "old"} {
		r := report(name, 20, policy.TLSUnchecked, policy.KeyOddPlace)
		before = append(before, Before{r.Name, r.ID, r.Findings})
	}
	part := report("part", 0)
	part.Complete = false
	got := gathered(Options{}, report("a", 0, policy.KeyOddPlace, policy.HelperPlain), part, report("old", 9),
		report("new", 0, policy.HelperPlain)).Against(today.AddDate(0, 0, -20), before)
	names := func(list []Finding) (all []string) {
		for _, f := range list {
			all = append(all, f.Machine+" "+f.Code)
		}
		return all
	}
	for _, row := range []struct {
		what string
		got  []Finding
		want []string
	}{{"new", got.New, []string{"a helper-plain", "new helper-plain"}}, {"still", got.Still,
		[]string{"a key-odd-place"}},
		{"gone", got.Gone, []string{"a tls-unchecked"}}, {"not seen", got.NotSeen, []string{"silent tls-unchecked",
			"silent key-odd-place", "part tls-unchecked", "part key-odd-place", "old tls-unchecked",
			"old key-odd-place"}}} {
		if names(row.got) == nil || !slices.Equal(names(row.got), row.want) {
			t.Errorf("%s: %q, want %q", row.what, names(row.got), row.want)
		}
	}
}
