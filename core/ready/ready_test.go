package ready_test

import (
	"context"
	"path/filepath"
	"strings"
	"testing"

	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/diagnose"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/ready"
	"anchorage.example/unicrux/fixture"
)

const drift = "git@forge.tidewater.example:buoys/drift-model.git"

func open(t *testing.T, s *fixture.Site, request finding.Request, passphrase string) (*ready.Opening, []ready.Step) {
	t.Helper()
	request.Ask = s.Secrets(passphrase).Passphrase
	var steps []ready.Step
	opening, err := ready.Open(t.Context(), s.Site, request, ready.Person{Secrets: s.Secrets(passphrase)},
		func(step ready.Step) { steps = append(steps, step) })
	if err != nil {
		t.Fatal(err)
	}
	return opening, steps
}

func codes(steps []ready.Step) string {
	var list []string
	for _, step := range steps {
		list = append(list, step.Code.String())
	}
	return strings.Join(list, " ")
}

// TestOpen goes from nothing to an open way, each step a recorded change; the second time there is nothing to do.
func TestOpen(t *testing.T) {
	t.Parallel()
	for _, passphrase := range []string{"", "a long word"} {
		s := fixture.At(t, "forge").WithHolder()
		opening, steps := open(t, s, finding.Request{Argument: drift, Purpose: finding.Push}, passphrase)
		if !opening.Way.IsOpen() || codes(steps) != "host-key-unknown key-none key-not-registered" &&
			codes(steps) != "key-none host-key-unknown key-not-registered" {
			t.Fatalf("%+v after %s", opening.Way.Crux, codes(steps))
		}
		for _, step := range steps {
			if step.Change == 0 || step.Summary == "" {
				t.Errorf("not recorded, or without words: %+v", step)
			}
		}
		if again, steps := open(t, s, finding.Request{Argument: drift, Purpose: finding.Push},
			passphrase); !again.Way.IsOpen() || len(steps) != 0 {
			t.Errorf("once more: %+v after %s", again.Way.Crux, codes(steps))
		}
	}
}

// TestStops where somebody else is needed, and changes nothing in vain.
func TestStops(t *testing.T) {
	t.Parallel()
	s := fixture.At(t, "forge")
	opening, steps := open(t, s, finding.Request{Argument: "git@forge.tidewater.example:harbour/lamp-firmware.git",
		Purpose: finding.Push}, "")
	if opening.Way.IsOpen() || opening.Way.Crux.Code != causes.ReadOnlyAccount {
		t.Errorf("%+v after %s", opening.Way.Crux, codes(steps))
	}
	// Another host is meant, and nobody says so.
	opening, steps = open(t, s, finding.Request{Argument: "git@forge.tidewatr.example:buoys/drift-model.git"}, "")
	if opening.URL != "" || len(steps) != 0 {
		t.Errorf("another host by itself: %+v after %s", opening, codes(steps))
	}
	secrets := s.Secrets("")
	asked := ""
	secrets.OtherHost = func(a, b string) (bool, error) { asked = a + " " + b; return true, nil }
	other, err := ready.Open(t.Context(), s.Site,
		finding.Request{Argument: "git@forge.tidewatr.example:buoys/drift-model.git", Ask: secrets.Passphrase},
		ready.Person{Secrets: secrets}, func(ready.Step) {})
	if err != nil || !other.Way.IsOpen() || asked != "forge.tidewatr.example forge.tidewater.example" ||
		!strings.Contains(other.URL, "forge.tidewater.example") {
		t.Errorf("%+v, asked %q, %v", other.Way.Crux, asked, err)
	}
}

// TestMends carries out each act that a mend may have.
func TestMends(t *testing.T) {
	t.Parallel()
	s := fixture.At(t, "forge").WithHolder()
	open(t, s, finding.Request{Argument: drift}, "")
	key := filepath.Join(s.Station.SSHDir(), "forge_ed25519")
	folder := filepath.Join(s.Station.Home, "work")
	s.Git(s.Station.Home, "init", "--quiet", folder)
	s.Git(folder, "remote", "add", "origin", "git@elsewhere.example:x.git")
	s.Station.Folder = folder
	for _, action := range []finding.Action{
		{Do: finding.UseKey, Host: "forge", HostName: s.Host.Hostname(), Key: key},
		{Do: finding.Restrict, File: key},
		{Do: finding.WritePublic, Key: key},
		{Do: finding.SetRemote, Remote: "origin", URL: drift},
		{Do: finding.SettleWeb, Host: "forge"},
		{Do: finding.AskFirst, Host: "forge"},
		{Do: finding.RegisterKey, Host: "forge", Key: key},
		{Do: finding.TrustHost, Host: "forge"},
		{Do: finding.NameSSH, File: "/home/o'brien/.ssh/config"},
	} {
		if words, err := ready.Apply(t.Context(), s.Site, s.Batch(), action, finding.Request{},
			ready.Person{Secrets: s.Secrets("")}); err != nil ||
			!strings.HasSuffix(words, ".") {
			t.Errorf("%s: %q, %v", action.Do, words, err)
		}
	}
	if got := strings.TrimSpace(s.Git(folder, "config", "remote.origin.url")); got != drift {
		t.Errorf("the remote: %s", got)
	}
	if got := strings.TrimSpace(s.Git(folder, "config",
		"core.sshCommand")); got != `ssh -F '/home/o'\''brien/.ssh/config'` {
		t.Errorf("a home with an apostrophe: %s", got)
	}
	if _, err := ready.Apply(t.Context(), s.Site, s.Batch(), finding.Action{Do: "sing"}, finding.Request{},
		ready.Person{}); err == nil {
		t.Error("an act that nobody knows")
	}
}

// TestForesee says beforehand what will be done, and a dry run changes nothing.
func TestForesee(t *testing.T) {
	t.Parallel()
	s := fixture.At(t, "forge")
	way, err := diagnose.Check(t.Context(), s.Station, s.Registry,
		finding.Request{Argument: drift, Ask: finding.NobodyAsks})
	if err != nil {
		t.Fatal(err)
	}
	plan := ready.Foresee(t.Context(), s.Site, way, ready.Person{})
	if len(plan) != 3 {
		t.Errorf("%+v", plan)
	}
	batch, err := ready.DryRun(t.Context(), s.Site, way, ready.Person{}, "~/x")
	if err != nil || len(batch.Differences()) == 0 {
		t.Errorf("%+v, %v", batch.Differences(), err)
	}
	if s.Read(".ssh", "known_hosts") != "" || s.Read(".ssh", "forge_ed25519") != "" {
		t.Error("a dry run changed something")
	}
	open(t, s, finding.Request{Argument: drift}, "")
	if way, err = diagnose.Check(t.Context(), s.Station, s.Registry,
		finding.Request{Argument: drift, Ask: finding.NobodyAsks}); err != nil ||
		len(ready.Foresee(t.Context(), s.Site, way, ready.Person{})) != 0 {
		t.Errorf("an open way: %v", err)
	}
}

// TestTransports turns URLs to the other transport, at described hosts alone.
func TestTransports(t *testing.T) {
	t.Parallel()
	s := fixture.At(t, "forge")
	web := s.Host.CloneHTTPS("buoys/drift-model")
	for _, row := range []struct {
		text, ssh, https string
	}{
		{drift, "", web},
		{web, "ssh://git@forge.tidewater.example/buoys/drift-model.git", web},
		{"https://quay.tidewater.example/x.git", "", "https://quay.tidewater.example/x.git"},
		{"git@quay.tidewater.example:x.git", "", ""},
		{"no URL", "", ""},
	} {
		if got, ok := ready.BySSH(s.Site, row.text); ok != (row.ssh != "") || ok && got != row.ssh {
			t.Errorf("%s by SSH: %s", row.text, got)
		}
		if got, ok := ready.ByHTTPS(s.Site, row.text); ok != (row.https != "") || ok && got != row.https {
			t.Errorf("%s by HTTPS: %s", row.text, got)
		}
	}
	request := finding.Request{Argument: drift, Ask: finding.NobodyAsks}
	s.Write("Host forge.tidewater.example\n  Port 1\n"+s.Read(".ssh", "config"), ".ssh", "config")
	way, err := diagnose.Check(context.Background(), s.Station, s.Registry, request)
	if err != nil || way.IsOpen() {
		t.Fatalf("%+v, %v", way.Crux, err)
	}
	other, err := ready.Better(t.Context(), s.Site, request, way)
	if err != nil {
		t.Fatal(err)
	}
	if other != nil && other.URL != web {
		t.Errorf("%+v", other)
	}
}
