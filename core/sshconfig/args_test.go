package sshconfig

import (
	"reflect"
	"strings"
	"testing"
)

func TestParseArgs(t *testing.T) {
	option := func(keyword string, args ...string) Option { return Option{keyword, args, "here"} }
	for _, row := range []struct {
		name string
		args []string
		want CommandLine
		ok   bool
	}{
		{"none", nil, CommandLine{}, true},
		{"file and key", []string{"-F", "/a b/config", "-i/k"},
			CommandLine{Config: "/a b/config", Options: []Option{option("identityfile", "/k")}}, true},
		{"flags together", []string{"-v4p", "2222", "-A"},
			CommandLine{Options: []Option{option("addressfamily", "inet"), option("port", "2222")}}, true},
		{"both spellings of -o", []string{"-oPort=1", "-o", "user git"},
			CommandLine{Options: []Option{option("port", "1"), option("user", "git")}}, true},
		{"argument missing", []string{"-p"}, CommandLine{}, false},
		{"-o without a value", []string{"-o", "Port"}, CommandLine{}, false},
		{"a host is no option", []string{"forge", "-p", "1"}, CommandLine{}, false},
		{"end of options", []string{"-l", "git", "--", "-p"},
			CommandLine{Options: []Option{option("user", "git")}}, true},
	} {
		got, ok := ParseArgs(row.args, "here")
		if !reflect.DeepEqual(got, row.want) || ok != row.ok {
			t.Errorf("%s: %+v, %v; want %+v, %v", row.name, got, ok, row.want, row.ok)
		}
	}
}

func FuzzParseArgs(f *testing.F) {
	f.Add("-F a -oPort=1 -vi key -p 22 host")
	f.Add("-o\x00-p")
	f.Fuzz(func(t *testing.T, text string) {
		args := strings.Split(text, " ")
		line, _ := ParseArgs(args, "here")
		if len(line.Options) > len(text) {
			t.Fatalf("%q: %d options", text, len(line.Options))
		}
		for _, option := range line.Options {
			if option.Keyword == "" || len(option.Args) == 0 {
				t.Fatalf("%q: %+v", text, option)
			}
		}
	})
}
