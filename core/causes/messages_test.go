package causes

import (
	"fmt"
	"os"
	"strings"
	"testing"
)

// asPrinted is a message as a client prints it: with values, and with what it puts around it.
func asPrinted(m message) string {
	text := strings.NewReplacer("line %s", "line 3", "port %s", "port 2222", "after %s ms", "after 300 ms", "%s",
		"thing").Replace(m.text)
	switch m.client {
	case "ssh":
		return text + "\nfatal: Could not read from remote repository.\n\nPlease make sure you have the correct access" +
			" rights\nand the repository exists."
	case "curl":
		return "fatal: unable to access 'https://thing/x.git/': " + text
	case "gnutls":
		return "fatal: unable to access 'https://thing/x.git/': gnutls_handshake() failed: " + text
	case "openssl":
		return "fatal: unable to access 'https://thing/x.git/': SSL certificate problem: " + text
	case "hg":
		return "abort: " + text
	case "host":
		return "remote: " + text
	case "connect":
		return "ssh: connect to host thing port 22: " + text + "\nfatal: Could not read from remote repository."
	case "resolver":
		return "ssh: Could not resolve hostname thing: " + text + "\nfatal: Could not read from remote repository."
	case "file":
		return "fatal: could not create work tree dir 'thing': " + text
	}
	return "fatal: " + text
}

// TestMessages: every message of the clients' sources names the cause that the table says, and one that the table
// leaves out names none for certain.
func TestMessages(t *testing.T) {
	t.Parallel()
	list := strings.Builder{}
	for line := range strings.Lines(messageText) {
		if strings.HasPrefix(line, "#") {
			list.WriteString(line)
		}
	}
	for _, m := range messages() {
		read := Explain(asPrinted(m))
		code := "-"
		if len(read.Causes) > 0 && read.Causes[0].Likelihood >= rival {
			code = read.Causes[0].Code.String()
		}
		fmt.Fprintf(&list, "%s\t%s\t%s\n", m.client, code, m.text)
		if code != m.code && !*update {
			t.Errorf("%s prints %q: %s, and the table says %s", m.client, m.text, code, m.code)
		}
	}
	if *update {
		if err := os.WriteFile("messages.txt", []byte(list.String()), 0o644); err != nil {
			t.Error(err)
		}
	}
}

// TestWhoSpeaks tells the clients' own lines from those of a host.
func TestWhoSpeaks(t *testing.T) {
	t.Parallel()
	for line, client := range map[string]bool{
		"fatal: unable to access 'https://x/': The requested URL returned error: 403":     true,
		"ssh: Could not resolve hostname forge: Name or service not known":                true,
		"kex_exchange_identification: Connection closed by remote host":                   true,
		"Password authentication is disabled to avoid man-in-the-middle attacks.":         true,
		"Too many requests. Try again later.":                                             false,
		"remote: Password authentication is disabled to avoid man-in-the-middle attacks.": false,
		"": false,
	} {
		if got := byClient(line); got != client {
			t.Errorf("%q is a client's: %v", line, got)
		}
	}
	if got := hostsPart("fatal: bad repository 'x'\nGo away.\n"); got != strings.Repeat(" ", 25)+"\nGo away.\n" {
		t.Errorf("%q", got)
	}
}
