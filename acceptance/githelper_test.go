package acceptance

import (
	"strings"
	"testing"

	"anchorage.example/unicrux/agreement"
)

// TestAsGitsHelper takes the steps of git's own tests for credential helpers of others (t0303 in git's
// sources): git asks us, tells us what worked and what did not, and gets exactly what any helper gives. The
// hosts are none that anybody described.
func TestAsGitsHelper(t *testing.T) {
	t.Parallel()
	p := newPerson(t).withChest()
	p.must("chest", "passphrase", "--new-passphrase-from", p.path("chest-words"))
	p.openChest()
	p.write(
		"#!/bin/sh\necho >&2 askpass: $*\nwhat=$(echo $1 | cut -d' ' -f1 | tr A-Z a-z | tr -cd a-z)\necho \"askpass-$what\"\n",
		"askpass",
	)
	p.chmod(0o755, "askpass")
	p.extra = append(p.extra, "GIT_ASKPASS="+p.path("askpass"))
	asksBoth := func(protocol, at string) (fields, said string) {
		return "username=askpass-username password=askpass-password",
			"askpass: Username for '" + protocol + "://" + at + "': askpass: Password for '" + protocol +
				"://askpass-username@" + at + "':"
	}
	none, nobody := asksBoth("https", "example.com")
	plain, plainSaid := asksBoth("http", "example.com")
	other, otherSaid := asksBoth("https", "other.tld")
	path, pathSaid := asksBoth("http", "path.tld/bar.git")
	tally := agreement.Of(t, "git: the tests of its credential helpers")
	for _, step := range []struct{ name, action, config, input, gets, said string }{
		{"has nothing yet", "fill", "", "protocol=https host=example.com",
			"protocol=https host=example.com " + none, nobody},
		{"stores", "approve", "", "protocol=https host=example.com username=store-user password=store-pass", "", ""},
		{"gives it", "fill", "", "protocol=https host=example.com",
			"protocol=https host=example.com username=store-user password=store-pass", ""},
		{"not for another protocol", "fill", "", "protocol=http host=example.com",
			"protocol=http host=example.com " + plain, plainSaid},
		{"not for another host", "fill", "", "protocol=https host=other.tld",
			"protocol=https host=other.tld " + other, otherSaid},
		{"not for another user", "fill", "", "protocol=https host=example.com username=other",
			"protocol=https host=example.com username=other password=askpass-password",
			"askpass: Password for 'https://other@example.com':"},
		{"with a path", "approve", "credential.useHttpPath=true",
			"protocol=http host=path.tld path=foo.git username=user password=pass", "", ""},
		{"not for another path", "fill", "credential.useHttpPath=true", "protocol=http host=path.tld path=bar.git",
			"protocol=http host=path.tld path=bar.git " + path, pathSaid},
		{"with a path, over https", "approve", "credential.useHttpPath=true",
			"protocol=https host=path.tld path=foo.git username=user password=pass", "", ""},
		{"for that path", "fill", "credential.useHttpPath=true", "protocol=https host=path.tld path=foo.git",
			"protocol=https host=path.tld path=foo.git username=user password=pass", ""},
		{"another password takes its place", "approve", "",
			"protocol=https host=example.com username=store-user password=store-pass-2", "", ""},
		{"and is given", "fill", "", "protocol=https host=example.com",
			"protocol=https host=example.com username=store-user password=store-pass-2", ""},
		{"one that is not stored is not forgotten", "reject", "",
			"protocol=https host=example.com username=store-user password=store-pass", "", ""},
		{"it is still given", "fill", "", "protocol=https host=example.com",
			"protocol=https host=example.com username=store-user password=store-pass-2", ""},
		{"forgets a host", "reject", "", "protocol=https host=example.com", "", ""},
		{"has nothing any longer", "fill", "", "protocol=https host=example.com",
			"protocol=https host=example.com " + none, nobody},
		{"stores one", "approve", "", "protocol=https host=example.com username=user1 password=pass1", "", ""},
		{"and another", "approve", "", "protocol=https host=example.com username=user2 password=pass2", "", ""},
		{"gives one", "fill", "", "protocol=https host=example.com username=user1",
			"protocol=https host=example.com username=user1 password=pass1", ""},
		{"and the other", "fill", "", "protocol=https host=example.com username=user2",
			"protocol=https host=example.com username=user2 password=pass2", ""},
		{"forgets one", "reject", "", "protocol=https host=example.com username=user1", "", ""},
		{"and does not give it", "fill", "", "protocol=https host=example.com username=user1",
			"protocol=https host=example.com username=user1 password=askpass-password",
			"askpass: Password for 'https://user1@example.com':"},
		{"but gives the other", "fill", "", "protocol=https host=example.com username=user2",
			"protocol=https host=example.com username=user2 password=pass2", ""},
		{"stores what is empty", "approve", "", "protocol=https host=sso.tld username= password=", "", ""},
		{"and gives it", "fill", "", "protocol=https host=sso.tld",
			"protocol=https host=sso.tld username= password=", ""},
	} {
		args := []string{"-c", "credential.helper=" + program + " for-git credential"}
		if step.config != "" {
			args = append(args, "-c", step.config)
		}
		r := p.run(strings.ReplaceAll(step.input, " ", "\n")+"\n", "git", append(args, "credential", step.action)...)
		got, said := strings.Join(strings.Fields(r.out), " "), strings.Join(strings.Fields(r.err), " ")
		tally.Case(r.exit == 0 && got == step.gets && said == step.said, "%s: %s\nwant %s\nand %s", step.name, r,
			step.gets, step.said)
	}
	// What a host refuses, which nobody can be asked about, is forgotten, and that is said.
	if r := p.run("protocol=https\nhost=example.com\nusername=user2\npassword=pass2\n", program, "for-git",
		"credential", "erase"); !strings.Contains(strings.Join(strings.Fields(r.err), " "),
		"example.com refuses example.com-2. Unicrux removed it from the chest, as git asked.") {
		t.Errorf("refused: %s", r)
	}
	if list := p.must("token", "list"); strings.Contains(list.out, "user2") {
		t.Errorf("%s", list)
	}
}
