package knownhosts

import (
	"bytes"
	"slices"
	"strings"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/allow"
)

// Line writes an entry for name.
func Line(name string, key ssh.PublicKey) string {
	return name + " " + strings.TrimSuffix(string(ssh.MarshalAuthorizedKey(key)), "\n")
}

// Add puts a key for name at the end of text, unless it is there already.
func Add(text []byte, name string, key ssh.PublicKey) []byte {
	entries, _ := Parse("", text)
	for _, entry := range entries {
		if entry.Marker == Plain && entry.Matches(name) && bytes.Equal(entry.Key.Marshal(), key.Marshal()) {
			return text
		}
	}
	if len(text) > 0 && text[len(text)-1] != '\n' {
		text = append(text, '\n')
	}
	return append(text, Line(name, key)+"\n"...)
}

// Forget takes every trusted key of name out of text that is in the way of key: same
// kind, other value. A line that serves further names keeps those; wildcards stay.
func Forget(text []byte, name string, key ssh.PublicKey) []byte {
	var result []byte
	for raw := range bytes.Lines(text) {
		entry, err := parseLine(raw)
		if err != nil || entry == nil || entry.Marker != Plain || !entry.Matches(name) ||
			entry.Key.Type() != key.Type() || bytes.Equal(entry.Key.Marshal(), key.Marshal()) {
			result = append(result, raw...)
			continue
		}
		result = append(result, withoutName(raw, entry.Hosts, name)...)
	}
	return result
}

// withoutName takes one name out of a line; nothing remains when it was the only one.
func withoutName(raw []byte, hosts, name string) []byte {
	if strings.HasPrefix(hosts, hashMark) {
		return nil
	}
	var kept []string
	for pattern := range strings.SplitSeq(hosts, ",") {
		if !allow.SameHost(pattern, name) {
			kept = append(kept, pattern)
		}
	}
	if len(kept) == 0 {
		return nil
	}
	return bytes.Replace(raw, []byte(hosts), []byte(strings.Join(kept, ",")), 1)
}

// WithoutKeys takes every line out of text that trusts one of some keys, for whatever names. Lines that revoke one, and
// those of authorities, stay.
func WithoutKeys(text []byte, keys []ssh.PublicKey) []byte {
	var result []byte
	for raw := range bytes.Lines(text) {
		entry, err := parseLine(raw)
		if err != nil || entry == nil || entry.Marker != Plain || !slices.ContainsFunc(keys,
			func(key ssh.PublicKey) bool {
				return bytes.Equal(entry.Key.Marshal(), key.Marshal())
			}) {
			result = append(result, raw...)
		}
	}
	return result
}
