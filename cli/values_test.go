package cli

import (
	"testing"
	"time"

	"github.com/spf13/pflag"
)

// TestValues: what the options take, what they hold then, and what is said where they do not take it.
func TestValues(t *testing.T) {
	t.Parallel()
	type path string
	for _, row := range []struct {
		args []string
		want string // what holds then, or what is said
	}{
		{nil, "push|<none>||10m"},
		{[]string{"--for", "clone", "--by", "ssh", "--wait", "90s"}, "clone|ssh||1m30s"},
		{[]string{"--use", "clone,push", "--use", "keys", "--wait=2h"}, "push|<none>|clone,push,keys|2h"},
		{[]string{"--by", ""}, "push|<none>||10m"},
		{[]string{"--for", ""}, `--for accepts clone or push, not ""`},
		{[]string{"--by", "ftp"}, `--by accepts ssh or https, not "ftp"`},
		{[]string{"--use", "clone,all"}, `--use accepts clone, push or keys, not "clone,all"`},
		{[]string{"--wait", "soon"}, `--wait accepts a time such as 45s, 10m or 8h, not "soon"`},
		{[]string{"--wait", "-5m"}, `--wait accepts a time such as 45s, 10m or 8h, not "-5m"`},
		{[]string{"--size", "\x1b[31m"}, `--size accepts a whole number, not "\x1b[31m"`},
		{[]string{"--plain=perhaps"}, `--plain accepts true or false, not "perhaps"`},
		{[]string{"--size"}, "--size needs a value: --size int"},
	} {
		purpose, by, uses, wait := "push", path(""), []string(nil), time.Duration(0)
		flags := pflag.NewFlagSet("test", pflag.ContinueOnError)
		flags.Var(oneOf(&purpose, "clone", "push"), "for", "")
		flags.Var(oneOf(&by, "ssh", "https"), "by", "")
		flags.Var(&wordList{to: &uses, is: "USES", choices: []string{"clone", "push", "keys"}}, "use", "")
		flags.Int("size", 0, "")
		flags.Bool("plain", false, "")
		lasts(flags, &wait, "wait", 10*time.Minute, "")
		got := ""
		if err := flags.Parse(row.args); err != nil {
			got = badOption(nil, err).Error()
		} else {
			if by == "" {
				by = "<none>"
			}
			got = purpose + "|" + string(by) + "|" + flags.Lookup("use").Value.String() + "|" +
				flags.Lookup("wait").Value.String()
		}
		if got != row.want {
			t.Errorf("%q: %s, want %s", row.args, got, row.want)
		}
	}
}
