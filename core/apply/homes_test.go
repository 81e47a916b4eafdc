//go:build unix

package apply

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"anchorage.example/unicrux/core/accounts"
	"anchorage.example/unicrux/core/identity"
)

// TestHinderedHomes: the process that settles a home has the rights of somebody who may want to hinder us. Whatever it
// does, the next home is settled, nobody waits for what it left behind, and no more is read than it has to say.
func TestHinderedHomes(t *testing.T) {
	t.Parallel()
	me := identity.Who{UID: os.Geteuid(), GID: os.Getegid()}
	for name, row := range map[string]struct{ script, why string }{
		"it is done":               {`cat >/dev/null; echo '{"done":["Forgot \u001b[2J it."],"change":3}'`, ""},
		"it leaves something":      {`sleep 45 & echo '{"done":[],"change":0}'`, "WaitDelay"},
		"it writes without end":    {`yes`, "exit status"},
		"it complains without end": {`yes >&2`, "exit status"},
		"it says something else":   {`echo tide`, "invalid character"},
		"it fails":                 {`printf 'no\033[2J' >&2; exit 3`, "exit status 3: no"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			program := filepath.Join(t.TempDir(), "program")
			if err := os.WriteFile(program, []byte("#!/bin/sh\n"+row.script+"\n"), 0o755); err != nil {
				t.Fatal(err)
			}
			homes := []accounts.Home{{Person: "ines", Path: "/", Who: me}, {Path: "/nobody"}, {Person: "mo",
				Path: "/", Who: me}}
			began := time.Now()
			got := InHomes(t.Context(), homes, Order{}, program)
			if len(got) != 2 || time.Since(began) > 2*homePatience/3 {
				t.Fatalf("%v: %+v", time.Since(began), got)
			}
			for _, r := range got {
				if (r.Why == "") != (row.why == "") || !strings.Contains(r.Why, row.why) ||
					strings.ContainsRune(r.Why+strings.Join(r.Done, ""), 0x1b) {
					t.Errorf("%+v", r)
				}
			}
		})
	}
}
