package gitanswer_test

import (
	"strings"
	"testing"
	"time"

	"anchorage.example/unicrux/core/chest"
	"anchorage.example/unicrux/core/gitanswer"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/origin"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/core/site"
	"anchorage.example/unicrux/fixture"
)

func text(word string) secret.Text { return secret.New([]byte(word)) }

func asked(at, user, path string) gitlink.Asked {
	return gitlink.Asked{Credential: gitlink.Credential{Protocol: "https", Host: at, User: user, Path: path}}
}

// put keeps a secret for a host that nobody described.
func put(t *testing.T, c *chest.Chest, e chest.Entry, word string) {
	t.Helper()
	e.Protocol, e.Made = "https", e.Made.Add(time.Second)
	if e.Places == nil {
		e.Places = []origin.Place{{Origin: origin.Web(e.At)}}
	}
	if _, err := c.Put(e, chest.Secret{Token: text(word)}); err != nil {
		t.Fatal(err)
	}
}

// TestChoice: which of several secrets git gets.
func TestChoice(t *testing.T) {
	t.Parallel()
	s := fixture.At(t, "forge")
	c := s.OpenChest()
	now := time.Now()
	put(t, c, chest.Entry{Name: "ended", At: "a.example", User: "ines", Until: now.Add(-time.Hour), Made: now}, "ended")
	put(t, c, chest.Entry{Name: "good", At: "a.example", User: "ines", Made: now.Add(-time.Hour)}, "good")
	put(t, c, chest.Entry{Name: "reads", At: "b.example", User: "ines", Purposes: []string{"clone"},
		Made: now}, "reads")
	put(t, c, chest.Entry{Name: "writes", At: "b.example", User: "ines", Purposes: []string{"push"},
		Made: now.Add(-time.Hour)}, "writes")
	put(t, c, chest.Entry{Name: "all", At: "c.example", User: "ines", Made: now}, "all")
	put(t, c, chest.Entry{Name: "one", At: "c.example", User: "ines", Path: "x.git", Made: now.Add(-time.Hour)}, "one")
	put(t, c, chest.Entry{Name: "first", At: "d.example", User: "ines", Host: "d", Made: now.Add(-time.Hour)}, "first")
	put(t, c, chest.Entry{Name: "second", At: "d.example", User: "lab", Host: "lab@d", Made: now}, "second")
	put(t, c, chest.Entry{Name: "moved", At: "e.example", User: "ines",
		Places: []origin.Place{{Origin: origin.Web("e.example"), Address: "127.0.0.9"}}}, "moved")
	put(t, c, chest.Entry{Name: "lines", At: "f.example", User: "ines"}, "two\nlines")
	put(t, c, chest.Entry{Name: "over", At: "g.example", User: "ines", Until: now.Add(-time.Hour)}, "over")
	put(t, c, chest.Entry{Name: "once-wrote", At: "h.example", User: "ines", Purposes: []string{"push"},
		Until: now.Add(-time.Hour), Made: now}, "once-wrote")
	put(t, c, chest.Entry{Name: "still-reads", At: "h.example", User: "ines", Purposes: []string{"clone"},
		Made: now.Add(-time.Hour)}, "still-reads")
	opened := 0
	open := func() (site.Site, error) { opened++; return s.Site, nil }
	for _, row := range []struct {
		name  string
		asked gitlink.Asked
		gets  string // empty for nothing
		said  string
	}{
		{"the one that has not ended", asked("a.example", "", ""), "good", ""},
		{"the one that may push", asked("b.example", "", ""), "writes", ""},
		{"the one of the path", asked("c.example", "", "x.git"), "one", ""},
		{"the one of all paths", asked("c.example", "", "y.git"), "all", ""},
		{"the first account's", asked("d.example", "", ""), "first", ""},
		{"the account's that is asked for", asked("d.example", "lab", ""), "second", ""},
		{"nobody's", asked("d.example", "chair", ""), "", ""},
		{"another host's", asked("z.example", "", ""), "", ""},
		{"over plain http", gitlink.Asked{Credential: gitlink.Credential{Protocol: "http", Host: "a.example"}}, "", ""},
		{"where git would go elsewhere", asked("e.example", "", ""), "", "was stored for"},
		{"one that git has no room for", asked("f.example", "", ""), "", ""},
		{"one that reads, where the one that wrote has ended", asked("h.example", "", ""), "still-reads", ""},
		{"one that has ended", asked("g.example", "", ""), "", "expired on"},
	} {
		answer, err := gitanswer.Answer(t.Context(), c, row.asked, open)
		got := string(answer.Text)
		if err != nil || row.gets == "" && got != "" || row.gets != "" &&
			!strings.Contains(got, "password="+row.gets+"\n") || !strings.Contains(answer.Said.Message, row.said) {
			t.Errorf("%s: %q, said %q, %v", row.name, got, answer.Said.Message, err)
		}
		if strings.Contains(answer.Said.Message, row.gets) && row.gets != "" && row.said != "" {
			t.Errorf("%s: the secret is in what is said: %q", row.name, answer.Said.Message)
		}
	}
	before := opened
	if _, err := gitanswer.Answer(t.Context(), c, asked("z.example", "", ""), open); err != nil || opened != before {
		t.Error("the hosts are read though the chest has nothing for git")
	}
}

// TestSoon is told once a day.
func TestSoon(t *testing.T) {
	t.Parallel()
	s := fixture.At(t, "forge")
	c := s.OpenChest()
	put(t, c, chest.Entry{Name: "soon", At: "a.example", User: "ines", Until: time.Now().AddDate(0, 0, 3)}, "soon")
	for i, want := range []bool{true, false} {
		answer, err := gitanswer.Answer(t.Context(), c, asked("a.example", "", ""),
			func() (site.Site, error) { return s.Site, nil })
		if err != nil || (answer.Soon != nil) != want || len(answer.Text) == 0 {
			t.Errorf("time %d: %+v, %v", i+1, answer, err)
		}
	}
}

// TestProved keeps what git got through with, at hosts that are described and at others.
func TestProved(t *testing.T) {
	t.Parallel()
	s := fixture.At(t, "forge")
	c := s.OpenChest()
	proved := func(at, user, word string) chest.Entry {
		t.Helper()
		a := asked(at, user, "")
		a.HasUser, a.HasPassword, a.Password = true, true, text(word)
		if err := gitanswer.Proved(s.Site, c, a); err != nil {
			t.Fatal(err)
		}
		list, err := c.At("https", at)
		if err != nil || len(list) == 0 {
			t.Fatalf("%s: %v, %v", at, list, err)
		}
		return list[len(list)-1]
	}
	if e := proved(s.Description.HTTPSAt(), "ines.marlow", "one"); e.Host != "forge" || e.Proved.IsZero() {
		t.Errorf("%+v", e)
	}
	first := proved("a.example:8443", "ines", "one")
	if first.Name != "a.example" || first.Host != "" {
		t.Errorf("%+v", first)
	}
	if again := proved("a.example:8443", "ines", "two"); again.Name != first.Name {
		t.Errorf("another password of the same account: %+v", again)
	}
	if list, _ := c.At("https", "a.example:8443"); len(list) != 1 {
		t.Errorf("%d entries", len(list))
	}
	nothing := asked("b.example", "ines", "")
	if err := gitanswer.Proved(s.Site, c, nothing); err != nil {
		t.Error(err)
	}
	if list, _ := c.At("https", "b.example"); len(list) != 0 {
		t.Errorf("kept without a secret: %v", list)
	}
}

// TestRefused says why, and forgets what the host does not know.
func TestRefused(t *testing.T) {
	t.Parallel()
	s := fixture.At(t, "forge")
	c := s.OpenChest()
	at := s.Description.HTTPSAt()
	good := s.Host.Issue(s.Host.Owner(), "good", []string{"repo:read"}, time.Time{})
	put(t, c, chest.Entry{Name: "good", At: at, User: "ines.marlow", Host: "forge", Purposes: []string{"clone"},
		Places: s.Description.Places()}, good)
	put(t, c, chest.Entry{Name: "unknown", At: at, User: "ines.marlow", Host: "forge", Places: s.Description.Places()},
		strings.Repeat("x", 20))
	put(t, c, chest.Entry{Name: "over", At: at, User: "ines.marlow", Host: "forge",
		Until: time.Now().Add(-time.Hour)}, "over")
	put(t, c, chest.Entry{Name: "undescribed", At: "a.example", User: "ines"}, "word")
	for _, row := range []struct{ name, at, word, said, stays string }{
		{"good", at, good, "it may not do this", "yes"},
		{"unknown", at, strings.Repeat("x", 20), "does not know", ""},
		{"over", at, "over", "expired on", "yes"},
		{"undescribed", "a.example", "word", "Unicrux removed it", ""},
	} {
		a := asked(row.at, "", "")
		a.HasPassword, a.Password = true, text(row.word)
		said, err := gitanswer.Refused(t.Context(), s.Site, c, a)
		_, gone := c.Entry(row.name)
		if err != nil || !strings.Contains(said.Message, row.said) || (gone == nil) != (row.stays != "") {
			t.Errorf("%s: %q, %v, in the chest: %v", row.name, said.Message, err, gone == nil)
		}
		if strings.Contains(said.Message, row.word) && len(row.word) > 6 {
			t.Errorf("%s: the secret is in what is said", row.name)
		}
	}
	put(t, c, chest.Entry{Name: "one", At: "b.example", User: "ines"}, "one")
	put(t, c, chest.Entry{Name: "two", At: "b.example", User: "lab"}, "two")
	a := asked("b.example", "lab", "")
	a.HasUser = true
	if _, err := gitanswer.Refused(t.Context(), s.Site, c, a); err != nil {
		t.Error(err)
	}
	if list, _ := c.At("https", "b.example"); len(list) != 1 || list[0].Name != "one" {
		t.Errorf("without a password, what fits is forgotten: %v", list)
	}
}
