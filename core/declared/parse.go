package declared

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"unicode"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/allow"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/strict"
)

// document is the file.
type document struct {
	Unicrux  int             `toml:"unicrux"` // the form of the file
	Fleet    string          `toml:"fleet"`
	Version  string          `toml:"version"`
	Policy   string          `toml:"policy"`
	Hosts    []hostWords     `toml:"host"`
	Trust    []trustWords    `toml:"trust"`
	Distrust []distrustWords `toml:"distrust"`
	Burned   []Burned        `toml:"burned"`
	Git      gitWords        `toml:"git"`
	Absent   absentWords     `toml:"absent"`
}

type hostWords struct {
	Description string         `toml:"description"`
	Fingerprint string         `toml:"fingerprint"` // of the description, as it was reviewed
	Settings    map[string]any `toml:"settings"`
}

type trustWords struct {
	Authority string   `toml:"authority"`
	Keys      []string `toml:"keys"`
	Hosts     []string `toml:"hosts"`
}

type distrustWords struct {
	Key string `toml:"key"`
	Why string `toml:"why"`
}

type gitWords struct {
	InPlace bool `toml:"in-place"`
}

type absentWords struct {
	Hosts []string `toml:"hosts"`
}

// parse reads the file alone. Every failure is a *[strict.Error].
func parse(text []byte) (document, error) {
	var file document
	if err := strict.Decode(text, &file); err != nil {
		return document{}, err
	}
	if file.Unicrux != 1 {
		return document{}, wrong("unicrux", "it is the form of the file, and must be 1")
	}
	for i, b := range file.Burned {
		place := fmt.Sprintf("burned[%d]", i)
		switch {
		case !sshkey.IsFingerprint(b.Fingerprint):
			return document{}, wrong(place+".fingerprint", "it must be a fingerprint: SHA256:…")
		case !says(b.Why):
			return document{}, wrong(place, "it has no reason: why = \"…\"")
		}
	}
	for i, name := range file.Absent.Hosts {
		if !allow.Name(name) {
			return document{}, wrong(fmt.Sprintf("absent.hosts[%d]", i), "%q is no name of a description", name)
		}
	}
	if !fits(file.Fleet) || !fits(file.Version) {
		return document{}, wrong("fleet", "fleet and version are one line each")
	}
	return file, nil
}

// says tells that a text is there and is one line.
func says(text string) bool { return strings.TrimSpace(text) != "" && fits(text) }

func fits(text string) bool { return !strings.ContainsFunc(text, unicode.IsControl) }

// keys reads what is said of host keys.
func (d document) keys() (trust []Trust, distrust []Distrust, err error) {
	for i, words := range d.Trust {
		t, err := words.trust(fmt.Sprintf("trust[%d]", i))
		if err != nil {
			return nil, nil, err
		}
		trust = append(trust, t)
	}
	for i, words := range d.Distrust {
		place := fmt.Sprintf("distrust[%d]", i)
		if !says(words.Why) {
			return nil, nil, wrong(place, "it has no reason: why = \"…\"")
		}
		key, err := publicKey(place+".key", words.Key)
		if err != nil {
			return nil, nil, err
		}
		distrust = append(distrust, Distrust{key, words.Why})
	}
	return trust, distrust, nil
}

func (w trustWords) trust(place string) (t Trust, err error) {
	lines := w.Keys
	if t.Authority = w.Authority != ""; t.Authority {
		lines = append(slices.Clone(lines), w.Authority)
	}
	switch {
	case t.Authority && len(w.Keys) > 0:
		return t, wrong(place, "it has an authority and keys: each needs a [[trust]] of its own")
	case len(lines) == 0:
		return t, wrong(place, "it has neither keys nor an authority")
	case len(w.Hosts) == 0:
		return t, wrong(place, "it does not say for which hosts")
	}
	for i, name := range w.Hosts {
		if !isPattern(name) {
			return t, wrong(fmt.Sprintf("%s.hosts[%d]", place, i),
				"%q is no host: it is a name or an address, with * and ? for parts of it, or [NAME]:PORT", name)
		}
	}
	t.Names = w.Hosts
	for _, line := range lines {
		key, err := publicKey(place, line)
		if err != nil {
			return t, err
		}
		t.Keys = append(t.Keys, key)
	}
	return t, nil
}

// isPattern tells whether a text names hosts as ssh's files of host keys do. Nothing else gets there.
func isPattern(text string) bool {
	name := text
	if inside, found := strings.CutPrefix(text, "["); found {
		bare, port, closed := strings.Cut(inside, "]:")
		if !closed || !allow.Number(port) {
			return false
		}
		name = bare
	}
	plain := strings.NewReplacer("*", "x", "?", "x").Replace(name)
	return allow.HostOrIP(plain)
}

func publicKey(place, line string) (ssh.PublicKey, error) {
	key, _, err := sshkey.ParseLine([]byte(line))
	if err != nil || strings.ContainsAny(line, "\r\n") {
		return nil, wrong(place, "it must be a public key, as one line: ssh-ed25519 AAAA…")
	}
	return key, nil
}

// settings reads the settings of a host: texts, and numbers for those that are one.
func settings(place string, words map[string]any) (map[string]string, error) {
	list := map[string]string{}
	for _, name := range slices.Sorted(maps.Keys(words)) {
		switch value := words[name].(type) {
		case string:
			if value == "" || !fits(value) {
				return nil, wrong(place+"."+name, "it is empty, or more than a line")
			}
			list[name] = value
		case int64:
			list[name] = fmt.Sprint(value)
		default:
			return nil, wrong(place+"."+name, "it must be a text in quotes, or a whole number")
		}
	}
	return list, nil
}

func wrong(place, format string, args ...any) error {
	return &strict.Error{Place: place, Message: fmt.Sprintf(format, args...)}
}
