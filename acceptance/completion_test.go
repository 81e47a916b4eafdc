package acceptance

import (
	"strings"
	"testing"
)

// bashCompletes is bash with its completion package, asked for what it would complete.
const bashCompletes = `source /usr/share/bash-completion/bash_completion
source <("$0" completion bash)
compopt() { :; } # it works within completion alone
COMP_WORDS=("$@") COMP_CWORD=$(($# - 1)) COMP_LINE="$*" COMP_TYPE=9 COMP_KEY=9
COMP_POINT=${#COMP_LINE}
__start_unicrux
printf '%s\n' "${COMPREPLY[@]}"`

// TestCompletion asks a real bash what it completes, with the script that is printed for it.
func TestCompletion(t *testing.T) {
	t.Parallel()
	p := settled(t)
	for _, row := range []struct {
		line string // what is typed, the last word begun
		want string // one that is offered
		not  string // one that is not
	}{
		{"ch", "check", "key"},
		{"key sh", "show", "new"},
		{"key show ", "forge_ed25519", "forge_ed25519.pub"},
		{"key register forge_ed25519 ", "forge", "forge_ed25519"},
		{"check --for ", "clone", "forge"},
		{"check --f", "--for", "--json"},
		{"host set forge po", "port=", "proxy="},
		{"look k", "keys", "tokens"},
		{"undo ", "1", "0"},
		{"explain key-not-reg", "key-not-registered", "key-none"},
		{"help js", "json", "key"},
		{"card forge --copy host", "host-key", "port"},
	} {
		typed := strings.Split(program+" "+row.line, " ")
		r := p.run("", "bash", append([]string{"-c", bashCompletes, program}, typed...)...)
		offered := " " + strings.Join(strings.Fields(r.out), " ") + " "
		if r.exit != 0 || r.err != "" || !strings.Contains(offered, " "+row.want+" ") ||
			strings.Contains(offered, " "+row.not+" ") {
			t.Errorf("%s: %s", row.line, r)
		}
	}
	for _, shell := range []string{"zsh", "fish", "powershell"} {
		if r := p.must("completion", shell); !strings.Contains(r.out, "__complete") {
			t.Errorf("%s: %s", shell, r)
		}
	}
	if r := p.unicrux("completion", "tcsh"); r.exit != 2 || r.out != "" {
		t.Error(r)
	}
}
