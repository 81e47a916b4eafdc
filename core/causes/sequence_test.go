package causes

import "testing"

// TestSequence holds what the order of lines decides: the earliest cause, not the last message, and no certainty beside
// a rival.
func TestSequence(t *testing.T) {
	for _, row := range []struct {
		name, text string
		first      Code
		conclusive bool
	}{
		{"a symptom behind its cause", "not trusting file /srv/charts/.hg/hgrc from untrusted user ines, group ines\n" +
			"pulling from default\nabort: repository default not found\n", RepositoryOwner, true},
		{"the symptom alone", "pulling from default\nabort: repository default not found\n", RemoteMissing, false},
		{"a rival", "The forge is being moved. Back at noon.\nConnection closed by 127.0.0.1 port 22\n", HostFailing, false},
		{"what ssh -v reads", "debug1: Reading configuration data /home/ines/certificate has expired/config\n" +
			"ssh: connect to host forge.tidewater.example port 22: Connection refused\n", PortRefused, true},
		{"what git traces", "12:00:01.000000 run-command.c:655 trace: run_command: 'certificate has expired'\n" +
			"ssh: connect to host forge.tidewater.example port 22: Connection refused\n", PortRefused, true},
	} {
		read := Explain(row.text)
		if len(read.Causes) == 0 || read.Causes[0].Code != row.first || read.Conclusive != row.conclusive {
			t.Errorf("%s: %+v", row.name, read)
		}
	}
}

// TestInWords holds that nothing but a command keeps a word that stands for something.
func TestInWords(t *testing.T) {
	const words = "Ask HOST for REPO as ACCOUNT: unicrux host show HOST. Then: URL"
	for host, want := range map[string]string{
		"":      "Ask the host for the repository as you: unicrux host show HOST. Then: the one that the host's page calls a clone URL",
		"forge": "Ask forge for the repository as you: unicrux host show forge. Then: the one that the host's page calls a clone URL",
	} {
		if got := inWords(words, host, "you", ""); got != want {
			t.Errorf("%q: %s", host, got)
		}
	}
}
