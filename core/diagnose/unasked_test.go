package diagnose_test

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/fixture"
)

// TestUnasked: a way is open only where it also is with the blocks of which a command decides that was not run; what is
// met with them is likely then, and letting the command run tells.
func TestUnasked(t *testing.T) {
	t.Parallel()
	s := fixture.Settled(t)
	own, ran := s.Read(".ssh", "config"), filepath.Join(s.Station.Home, "ran")
	with := func(block string) { s.Write("Match exec \"touch "+ran+"\"\n"+block+"Host *\n"+own, ".ssh", "config") }
	with("  SendEnv LANG\n")
	if way := check(t, s, finding.Request{Argument: drift}); !way.IsOpen() {
		t.Errorf("the block does not matter: %+v", way.Crux)
	}
	with("  Port 1\n")
	way := check(t, s, finding.Request{Argument: drift})
	if way.IsOpen() || way.Crux.Code != causes.PortRefused || way.Crux.Certainty != finding.Likely ||
		len(way.Mends) != 1 ||
		!slices.Contains(way.Mends[0].Command, "--run-commands") ||
		!strings.Contains(way.Crux.Evidence[len(way.Crux.Evidence)-1].Text, "was not run") {
		t.Errorf("it may break there: %+v, %+v", way.Crux, way.Mends)
	}
	if _, err := os.Stat(ran); err == nil {
		t.Error("the command was run")
	}
	if way := check(t, s, finding.Request{Argument: drift, RunCommands: true}); way.IsOpen() ||
		way.Crux.Certainty != finding.Proved {
		t.Errorf("asked: %+v", way.Crux)
	}
}

// TestMoved: settings that start this program where it is no longer are the crux where that explains what is met, and
// else a note.
func TestMoved(t *testing.T) {
	t.Parallel()
	s := fixture.Settled(t)
	url := s.Host.CloneHTTPS("buoys/drift-model")
	forge, err := s.Registry.Find("forge")
	if err != nil {
		t.Fatal(err)
	}
	if err := hosts.SettleHTTPS(t.Context(), s.Batch(), s.Station, forge, "/gone/unicrux"); err != nil {
		t.Fatal(err)
	}
	way := check(t, s, finding.Request{Argument: url})
	if way.IsOpen() || way.Crux.Code != causes.ProgramMoved || way.Mends[0].Action.Do != finding.Repoint {
		t.Errorf("over HTTPS: %+v, %+v", way.Crux, way.Mends)
	}
	way = check(t, s, finding.Request{Argument: drift})
	if !way.IsOpen() || way.Notes[len(way.Notes)-1].Code != causes.ProgramMoved {
		t.Errorf("over SSH it stops nothing: %+v, %+v", way.Crux, way.Notes)
	}
	ours := hosts.OurGitFile(s.Station)
	s.Git(s.Station.Home, "config", "--file", ours, "core.sshCommand", "'/gone/u' for-git ssh")
	if way := check(t, s, finding.Request{Argument: drift}); way.IsOpen() || way.Crux.Code != causes.ProgramMoved {
		t.Errorf("git starts ssh through it: %+v", way.Crux)
	}
}
