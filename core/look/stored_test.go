package look

import (
	"crypto/ed25519"
	"slices"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"
	sshknown "golang.org/x/crypto/ssh/knownhosts"

	"anchorage.example/unicrux/core/knownhosts"
)

// keyLine is a known hosts line with the key that a seed stands for.
func keyLine(t *testing.T, names string, seed byte) string {
	t.Helper()
	key, err := ssh.NewPublicKey(ed25519.NewKeyFromSeed([]byte(strings.Repeat(string(rune('a'+seed)), 32))).Public())
	if err != nil {
		t.Fatal(err)
	}
	marker, names, found := strings.Cut(names, " ")
	if !found {
		marker, names = "", marker
	}
	return strings.TrimSpace(marker+" "+knownhosts.Line(names, key)) + "\n"
}

// TestStoredLines says of each line whose it is, and which earlier one it repeats or contradicts.
func TestStoredLines(t *testing.T) {
	t.Parallel()
	names := candidates{}
	for _, pair := range [][2]string{{"Forge.example", "forge"}, {"forge.example", "forge"}, {"forge.example", "work"},
		{"[lab.example]:2222", "lab"}, {"lantern.example", "lantern"}} {
		names.add(pair[0], pair[1])
	}
	rows := []struct {
		names string
		seed  byte
		hosts []string
		fault Fault
		of    int // the line that it is compared with, from 1
	}{
		{"forge.example", 1, []string{"forge", "work"}, NoFault, 0},
		{"FORGE.example", 1, []string{"forge", "work"}, Doubled, 1},
		{sshknown.HashHostname("forge.example"), 2, []string{"forge", "work"}, Rival, 2},
		{sshknown.HashHostname("forge.example"), 1, []string{"forge", "work"}, Doubled, 1},
		{"[lab.example]:2222,10.0.0.9", 3, []string{"lab"}, NoFault, 0},
		{"*.example,!forge.example", 3, []string{"lantern"}, NoFault, 0},
		{"lantern.example", 4, []string{"lantern"}, Rival, 6},
		{"elsewhere.example", 5, nil, NoFault, 0},
		{"elsewhere.example", 6, nil, Rival, 8},
		{"@revoked forge.example", 1, []string{"forge", "work"}, Banned, 0},
		{"@cert-authority forge.example", 9, []string{"forge", "work"}, NoFault, 0},
	}
	var text strings.Builder
	for _, row := range rows {
		text.WriteString(keyLine(t, row.names, row.seed))
	}
	entries, bad := knownhosts.Parse("known", []byte(text.String()))
	if len(bad) > 0 || len(entries) != len(rows) {
		t.Fatalf("%d lines, %v", len(entries), bad)
	}
	var list []Stored
	for _, entry := range entries {
		list = append(list, Stored{Entry: entry, Hosts: names.of(entry)})
	}
	compare(list)
	for i, row := range rows {
		got, of := list[i], 0
		if got.Of != nil {
			of = got.Of.Line
		}
		if !slices.Equal(got.Hosts, row.hosts) || got.Fault != row.fault || of != row.of {
			t.Errorf("%s: for %q, %q of %d; want %q, %q of %d", row.names, got.Hosts, got.Fault, of, row.hosts,
				row.fault, row.of)
		}
	}
}
