// Command messages compares the table of the clients' messages (core/causes/messages.txt) with the clients' sources: it
// prints each message that the table does not have, which is to be read when a new version of a client comes out.
//
//	go run ./messages TABLE DIR
//
// DIR holds the unpacked sources, as "apt-get source git openssh curl gnutls28 mercurial" leaves them.
package main

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
)

// A client is a program whose messages are looked for: in which files, and in which calls.
type client struct {
	name  string
	files []string // below DIR, as patterns
	calls string   // the functions that print, as a form
}

var clients = []client{
	{
		"git",
		under(
			"git-*",
			"transport.c transport-helper.c remote-curl.c connect.c http.c credential.c prompt.c fetch-pack.c"+
				" send-pack.c remote.c setup.c run-command.c pkt-line.c protocol.c builtin/clone.c builtin/fetch.c builtin/push.c"+
				" builtin/ls-remote.c url.c connected.c builtin/credential-store.c",
		),
		`(?:die|die_errno|error|error_errno|warning|warning_errno|die_initial_contact)\s*\(`,
	},
	{
		"ssh",
		under("openssh-*", "ssh.c sshconnect.c sshconnect2.c readconf.c packet.c kex.c hostfile.c authfd.c authfile.c"+
			" sshkey.c misc.c mux.c readpass.c ssh-pkcs11-client.c ssh-sk-client.c dispatch.c"),
		`(?:fatal|fatal_f|fatal_fr|fatal_r|error|error_f|error_fr|error_r|logit|logit_f|logit_fr|logit_r)\s*\(`,
	},
	{
		"curl",
		under("curl-*", "lib/connect.c lib/cf-socket.c lib/url.c lib/http.c lib/http_proxy.c lib/socks.c lib/hostip.c"+
			" lib/transfer.c lib/vtls/gtls.c"),
		`(?:failf|Curl_failf)\s*\(`,
	},
	{"curl", under("curl-*", "lib/strerror.c"), `return\s`},
	{"ssh", under("openssh-*", "ssherr.c"), `return\s`},
	{"gnutls", under("gnutls*", "lib/errors.c"), `(?:N_)\s*\(`},
	{"openssl", under("openssl-*", "crypto/x509/x509_txt.c"), `return\s`},
	{
		"hg",
		under(
			"mercurial-*/mercurial",
			"sshpeer.py httppeer.py url.py hg.py sslutil.py httpconnection.py wireprotov1peer.py",
		),
		`(?:_)\s*\(`,
	},
}

func under(folder, names string) []string {
	files := strings.Fields(names)
	for i, name := range files {
		files[i] = folder + "/" + name
	}
	return files
}

func main() {
	if len(os.Args) != 3 {
		fmt.Fprintln(os.Stderr, "usage: messages TABLE DIR")
		os.Exit(2)
	}
	missing, err := compare(os.Stdout, os.Args[1], os.Args[2])
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(2)
	}
	if missing > 0 {
		os.Exit(1)
	}
}

// errNoSources is returned where a folder holds the sources of no client.
var errNoSources = errors.New("no sources of git, openssh, curl, gnutls, openssl or mercurial are in this folder")

// compare prints the messages that the table lacks, and returns how many there are.
func compare(out io.Writer, table, dir string) (missing int, err error) {
	known, err := readTable(table)
	if err != nil {
		return 0, err
	}
	read := 0
	for _, c := range clients {
		for _, pattern := range c.files {
			paths, _ := filepath.Glob(filepath.Join(dir, pattern)) // the patterns are ours
			for _, path := range paths {
				text, err := os.ReadFile(path)
				if err != nil {
					return missing, err
				}
				read++
				for _, message := range find(string(text), c.calls) {
					if !known[message] {
						missing++
						fmt.Fprintf(out, "%s\t-\t%s\t(%s)\n", c.name, message, filepath.Base(path))
					}
				}
			}
		}
	}
	if read == 0 {
		return 0, errNoSources
	}
	return missing, nil
}

func readTable(path string) (map[string]bool, error) {
	file, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer file.Close() // it was only read
	known := map[string]bool{}
	lines := bufio.NewScanner(file)
	for lines.Scan() {
		if parts := strings.SplitN(lines.Text(), "\t", 3); len(parts) == 3 {
			known[parts[2]] = true
		}
	}
	return known, lines.Err()
}

var (
	literal = regexp.MustCompile(`^\s*b?(?:"((?:[^"\\]|\\.)*)"|'((?:[^'\\]|\\.)*)')`)
	begins  = regexp.MustCompile(`^[^;{}"']{0,200}?b?["']`)
	value   = regexp.MustCompile(`%[-+ #0-9.*]*(?:l|ll|h|z|j)*[sdiuxXcpfgr]|%" ?PRI\w+ ?"?`)
	blanks  = regexp.MustCompile(`\s+`)
	words   = regexp.MustCompile(`[a-zA-Z]{4}`)
)

// find lists the messages that a source prints by some calls, once each.
func find(source, calls string) []string {
	var list []string
	for _, at := range regexp.MustCompile(`\b(?:`+calls+`)`).FindAllStringIndex(source, -1) {
		rest := source[at[1]:]
		start := begins.FindStringIndex(rest)
		if start == nil || strings.Count(rest[:start[1]], ",") > 3 {
			continue
		}
		rest = rest[quoteAt(rest, start[1]):]
		text := ""
		for part := literal.FindStringSubmatch(rest); part != nil; part = literal.FindStringSubmatch(rest) {
			text += part[1] + part[2]
			rest = rest[len(part[0]):]
		}
		if text = tidy(text); len(text) >= 8 && words.MatchString(text) && !strings.Contains(text, "*/") &&
			!strings.Contains(text, "/*") && !slices.Contains(list, text) {
			list = append(list, text)
		}
	}
	return list
}

// quoteAt is where the quote begins that ends at a place.
func quoteAt(text string, end int) int {
	if end >= 2 && text[end-2] == 'b' {
		return end - 2
	}
	return end - 1
}

// tidy is a message as the table has it: one line, with %s for every value.
func tidy(text string) string {
	text = strings.NewReplacer(`\n`, " ", `\t`, " ", `\r`, " ", `\"`, `"`, `\'`, "'", `\\`, `\`).Replace(text)
	return strings.TrimSpace(blanks.ReplaceAllString(value.ReplaceAllString(text, "%s"), " "))
}
