package cli

import (
	"strings"
	"testing"
)

// TestArguments reads use lines: what can be at a place, how many arguments there may be, and what is said of others.
func TestArguments(t *testing.T) {
	t.Parallel()
	for _, row := range []struct {
		use  string
		at   int
		want string // what can be there
		says string // of one argument more than that place; empty where it is right
	}{
		{"list", 0, "", "list needs no argument, and got one argument"},
		{"register KEY HOST", 0, "KEY", "register needs KEY and HOST, and got one argument"},
		{"register KEY HOST", 1, "HOST", ""},
		{"register KEY HOST", 2, "", "register accepts only KEY and HOST, and got 3 arguments"},
		{"check [URL|REMOTE|HOST [REPOSITORY]]", 0, "URL REMOTE HOST", ""},
		{"check [URL|REMOTE|HOST [REPOSITORY]]", 1, "REPOSITORY", ""},
		{"check [URL|REMOTE|HOST [REPOSITORY]]", 2, "",
			"check accepts only URL or REMOTE or HOST and REPOSITORY, and got 3 arguments"},
		{"use ssh|https [REMOTE]", 0, "ssh https", ""},
		{"use ssh|https [REMOTE]", 1, "REMOTE", ""},
		{"save KEY --format FORMAT --out FILE", 1, "", "save accepts only KEY, and got 2 arguments"},
		{"set HOST NAME=VALUE…", 0, "HOST", "set needs HOST and NAME=VALUE, and got one argument"},
		{"set HOST NAME=VALUE…", 4, "NAME=VALUE", ""},
		{"find [DIR...]", 3, "DIR", ""},
	} {
		a := argumentsOf(row.use)
		if got := strings.Join(alternatives(a.names, row.at), " "); got != row.want {
			t.Errorf("%q at %d: %q, want %q", row.use, row.at, got, row.want)
		}
		command := newRoot()
		command.ResetCommands()
		command.Use, command.Args = row.use, nil
		demandArguments(command)
		says := ""
		if err := command.Args(command, make([]string, row.at+1)); err != nil {
			says = err.Error()
		}
		if says != row.says {
			t.Errorf("%q with %d: %q, want %q", row.use, row.at+1, says, row.says)
		}
	}
}
