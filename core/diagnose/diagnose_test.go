package diagnose_test

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/diagnose"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/fixture"
)

const drift = "git@forge.tidewater.example:buoys/drift-model.git"

func check(t *testing.T, s *fixture.Site, request finding.Request) *finding.Way {
	t.Helper()
	s.Reload()
	request.Ask = finding.NobodyAsks
	way, err := diagnose.Check(t.Context(), s.Station, s.Registry, request)
	if err != nil {
		t.Fatal(err)
	}
	return way
}

// TestTruerCause: a rule or a setting that sends the way elsewhere is the crux, and not what is met there.
func TestTruerCause(t *testing.T) {
	t.Parallel()
	for name, row := range map[string]struct {
		arrange  func(s *fixture.Site)
		argument string
		code     causes.Code
	}{
		"open": {func(*fixture.Site) {}, drift, causes.Code{}},
		"a rule of git's": {func(s *fixture.Site) {
			s.Git(s.Station.Home, "config", "--global", "url.git@nowhere.invalid:.insteadOf",
				"git@forge.tidewater.example:")
		}, drift, causes.URLRewritten},
		"an earlier block": {func(s *fixture.Site) {
			s.Write("Host forge.tidewater.example\n  Port 1\n"+s.Read(".ssh", "config"), ".ssh", "config")
		}, drift, causes.SSHConfigShadowed},
		"a block of another name": {func(s *fixture.Site) {
			s.Write(fmt.Sprintf("Host boat\n  HostName 127.0.0.1\n  Port %d\n  User git\n  IdentityFile ~/.ssh/mine\n  UserKnownHostsFile ~/.ssh/known_hosts\n", s.Host.SSHPort()), ".ssh", "config")
			s.Write("", ".ssh", "unicrux.conf")
		}, fmt.Sprintf("ssh://git@127.0.0.1:%s/buoys/drift-model.git", "PORT"), causes.SSHConfigUnmatched},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := fixture.Settled(t)
			row.arrange(s)
			way := check(t, s, finding.Request{Argument: strings.ReplaceAll(row.argument, "PORT",
				fmt.Sprint(s.Host.SSHPort()))})
			got := causes.Code{}
			if way.Crux != nil {
				got = way.Crux.Code
			}
			if got != row.code {
				t.Errorf("%+v", way.Crux)
			}
		})
	}
}

// TestPushesToAll: a push that goes to several URLs is open when all of them are.
func TestPushesToAll(t *testing.T) {
	t.Parallel()
	s := fixture.Settled(t)
	folder := filepath.Join(s.Station.Home, "work")
	s.Git(s.Station.Home, "init", "--quiet", folder)
	s.Station.Folder = folder
	s.Git(folder, "remote", "add", "origin", drift)
	s.Git(folder, "remote", "set-url", "--add", "--push", "origin", drift)
	if way := check(t, s, finding.Request{Argument: "origin"}); !way.IsOpen() {
		t.Fatalf("one of them: %+v", way.Crux)
	}
	s.Git(folder, "remote", "set-url", "--add", "--push", "origin",
		"git@forge.tidewater.example:harbour/lamp-firmware.git")
	way := check(t, s, finding.Request{Argument: "origin"})
	if way.IsOpen() || way.Crux.Code != causes.ReadOnlyAccount || way.Question.Remote != "origin" ||
		!strings.Contains(way.Stages[0].Facts[len(way.Stages[0].Facts)-1].Value, "number 2 of the 2") {
		t.Errorf("the second: %+v, %+v", way.Crux, way.Stages[0].Facts)
	}
}

// TestOverHTTPS goes by HTTPS where the URL says so, and breaks where it breaks.
func TestOverHTTPS(t *testing.T) {
	t.Parallel()
	s := fixture.Settled(t)
	way := check(t, s, finding.Request{Argument: s.Host.CloneHTTPS("buoys/drift-model")})
	if way.IsOpen() || way.Question.Transport != "https" || len(way.Mends) == 0 {
		t.Fatalf("%+v", way.Crux)
	}
	broken := 0
	for _, stage := range way.Stages {
		if stage.State == finding.Broken {
			broken++
			if stage.Name != way.Crux.Stage {
				t.Errorf("it breaks at %s, and the crux is of %s", stage.Name, way.Crux.Stage)
			}
		}
	}
	if broken != 1 {
		t.Errorf("%d stages are broken: %+v", broken, way.Stages)
	}
}

// TestAddressStage: what is wrong with a URL needs no network.
func TestAddressStage(t *testing.T) {
	t.Parallel()
	s := fixture.Settled(t)
	way := check(t, s, finding.Request{Argument: "https://forge.tidewater.example/x y"})
	if way.IsOpen() || way.Crux.Code != causes.URLCharacters || way.Trip != nil ||
		way.Stages[1].State != finding.NotReached {
		t.Errorf("%+v, %+v", way.Crux, way.Stages)
	}
}

// TestAsGit: a host that nobody described is asked about as the usual user of hosts for git, where it refuses the login
// name and nobody named another one.
func TestAsGit(t *testing.T) {
	t.Parallel()
	for name, row := range map[string]struct {
		lines, argument string
		code            causes.Code
		user            string
	}{
		"nobody named a user":   {"", "boat.example", causes.Code{}, "git"},
		"settings name one":     {"  User mira\n", "boat.example", causes.KeyNotRegistered, "mira"},
		"the question names it": {"", "mira@boat.example", causes.KeyNotRegistered, "mira"},
		"behind another key": {"  IdentitiesOnly yes\n  IdentityFile ~/.ssh/other\n", "boat.example", causes.Code{},
			"git"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := fixture.Settled(t)
			if strings.Contains(row.lines, "other") {
				s.Key("other", "")
			}
			s.Write(
				fmt.Sprintf(
					"Host boat.example\n  HostName 127.0.0.1\n  Port %d\n  UserKnownHostsFile ~/.ssh/known_hosts\n%s"+
						"  IdentityFile ~/.ssh/mine\n",
					s.Host.SSHPort(),
					row.lines,
				),
				".ssh",
				"config",
			)
			way := check(t, s, finding.Request{Argument: row.argument})
			got := causes.Code{}
			if way.Crux != nil {
				got = way.Crux.Code
			}
			if got != row.code || way.Question.User != row.user {
				t.Errorf("as %s: %+v", way.Question.User, way.Crux)
			}
			if way.Crux != nil && way.Crux.Certainty != finding.Likely {
				t.Errorf("only the host's log tells why: %+v", way.Crux)
			}
		})
	}
}
