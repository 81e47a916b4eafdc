package acceptance

import (
	"strings"
	"testing"

	"anchorage.example/unicrux/fixture/desktop"
)

// TestChestAtTheDesktopAnswersGit keeps tokens with the desktop's service by itself where there
// is one, and moves them to a sealed chest and back.
func TestChestAtTheDesktopAnswersGit(t *testing.T) {
	t.Parallel()
	p := withHost(t).withChest()
	need(t, "gnome-keyring-daemon")
	p.extra = append(p.extra, "U="+program, "TOKEN="+p.host.TokenFile(), "URL="+p.cloneHTTPS("buoys/drift-model"))
	r := p.run("", need(t, "dbus-run-session"), "--", "sh", "-c", "set -e\n"+desktop.Start+`
"$U" token new forge --token-from "$TOKEN"
git ls-remote "$URL" >/dev/null && echo "answered by the desktop"
"$U" chest move --to sealed --chest-passphrase-from "$HOME/chest-words"
git ls-remote "$URL" >/dev/null && echo "answered by the holder"
"$U" chest move --to memory
"$U" chest show
git ls-remote "$URL" >/dev/null && echo "answered from memory"
"$U" chest move --to desktop
"$U" holder stop
git ls-remote "$URL" >/dev/null && echo "answered by the desktop again"
`)
	for _, want := range []string{"kept      desktop", "answered by the desktop\n",
		"One secret was moved: it is sealed", "answered by the holder", "1 memory", "answered from memory",
		"answered by the desktop again"} {
		if !strings.Contains(r.out, want) {
			t.Errorf("no %q: %s", want, r)
		}
	}
}
