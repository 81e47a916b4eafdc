package effective

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"anchorage.example/unicrux/core/sshconfig"
)

// TestTheClientIsKnown compares what we print for settings with what the client prints for the
// same, over generated ones of all keywords that we think we know, and some that we do not.
func TestTheClientIsKnown(t *testing.T) {
	t.Parallel()
	s := station(t)
	s.Cache = t.TempDir()
	client, err := learned(t.Context(), s)
	if err != nil {
		t.Fatal(err)
	}
	if again, err := learned(t.Context(), s); err != nil || fmt.Sprint(again) != fmt.Sprint(client) {
		t.Errorf("kept: %v, %v", again, err)
	}
	texts := map[string][]string{
		"#": {"1", "22", "443", "0", "007", "1m", "none", "99999"},
		"/": {"~/.ssh/x", "/a/b-c.d", "%d/x", "none", "~other/x", "relative", `"/with space"`, "/a//b", "~/${HOME}"},
		".": {"git", "Ines", "none", "a.b", "me@here", "LC_*", `"me"`, "-x", "a b", "%r"},
	}
	ours := 0
	keywords := make([]string, 0, len(manners))
	for keyword := range manners {
		keywords = append(keywords, keyword)
	}
	slices.Sort(keywords)
	const rounds = 300
	for seed := range rounds {
		r := rand.New(rand.NewPCG(uint64(seed), 5))
		var text strings.Builder
		for range r.IntN(5) {
			keyword := keywords[r.IntN(len(keywords))]
			value := manners[keyword][r.IntN(len(manners[keyword]))]
			if choices := texts[value]; choices != nil {
				value = choices[r.IntN(len(choices))]
			} else if r.IntN(4) == 0 {
				value = strings.ToUpper(value)
			}
			fmt.Fprintf(&text, "%s %s\n", keyword, value)
		}
		text.WriteString([]string{"", "", "", "HostName %h.example\n", "HostName Other\n",
			"ServerAliveInterval 7\nBatchMode yes\n"}[r.IntN(6)])
		config := write(t, s, "config", text.String())
		host := []string{"forge", "Forge", "10.0.0.1", "forge.tidewater.example"}[r.IntN(4)]
		settings := sshconfig.Resolve(sshconfig.Query{Host: host, Command: sshconfig.CommandLine{Config: config},
			Person: sshconfig.Person{User: s.User, Home: s.SSHHome, Computer: "here", Getenv: s.Getenv}})
		got, known := client.print(settings)
		if !known {
			continue
		}
		ours++
		want, err := printed(t.Context(), host, settings.Flat())
		if err != nil { // the client refuses the file: then it is asked, and says so
			t.Errorf("seed %d: we print what the client refuses\n%s", seed, text.String())
			continue
		}
		if g, w := fmt.Sprint(got), fmt.Sprint(want); g != w {
			t.Errorf("seed %d, %s\n%s", seed, host, text.String())
			for i := range min(len(got), len(want)) {
				if got[i] != want[i] {
					t.Errorf("ours %q, the client's %q", got[i], want[i])
					break
				}
			}
		}
	}
	if ours < rounds/3 {
		t.Errorf("only %d of %d could be told without the client", ours, rounds)
	}
}
