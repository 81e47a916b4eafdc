// Package hosts knows code hosts by their descriptions: TOML files that say where a host
// is, how to trust it and how its interface is spoken to. No host is built in.
//
// [Parse] reads a description, [Open] finds those that were added here, and [Client]
// speaks to a host's interface as its description says. Standards:
//
//	[6570] RFC 6570: URI templates, for paths
//	[9535] RFC 9535: JSONPath, of which this first form takes "$" and member names
//	[9457] RFC 9457: problem details, for the host's refusals
package hosts

import (
	"bytes"
	"crypto/x509"
	"errors"
	"fmt"
	"net/netip"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"
	"github.com/yosida95/uritemplate/v3"
	"golang.org/x/crypto/ssh"

	"unicrux/core/foreign"
	"unicrux/core/sshkey"
)

// MaxBytes bounds a description.
const MaxBytes = 256 << 10

// Version is the version of the language that this program reads.
const Version = 1

// A Description is what Unicrux knows about one host.
type Description struct {
	Version   int       `toml:"unicrux"` // of the language: 1
	Name      string    `toml:"name"`    // what you call the host: a short word
	Title     string    `toml:"title"`   // what the host calls itself
	SSH       SSH       `toml:"ssh"`
	Interface Interface `toml:"interface"`

	// Operations says how the interface is told things, by name: "who", "host-keys",
	// "list-keys", "add-key", "remove-key". One that is missing is done by hand.
	Operations map[string]Operation `toml:"operations"`

	// ForAccount is set where this is the host as it is for one account of several.
	ForAccount string `toml:"-"`

	Keys     KeyRules      `toml:"keys"`
	Refusals []RefusalText `toml:"refusals"`
}

// KeyRules are what a host demands of keys.
type KeyRules struct {
	Kinds []string `toml:"kinds"` // ed25519, ecdsa, rsa; empty for all of them
	Title int      `toml:"title"` // most characters of a title; 0 for no limit that we know of
}

// A RefusalText says what the host's words mean when it does not open a repository.
type RefusalText struct {
	Text  string `toml:"text"`  // regular expression (RE2) found in the words
	Means string `toml:"means"` // a code of the catalogue
}

// SSH says how git reaches the host over SSH.
type SSH struct {
	Host     string   `toml:"host"`             // the name in clone URLs
	User     string   `toml:"user"`             // the login that everybody shares, "git" most often
	Port     int      `toml:"port"`             // 0 means 22
	Other    int      `toml:"alternative-port"` // another port, for networks where the first is closed; 0 for none
	Address  string   `toml:"address"`          // an IP address to use in place of the name; empty asks the name servers
	HostKeys []string `toml:"host-keys"`        // published host keys, as public lines
	Greeting string   `toml:"greeting"`         // regular expression (RE2) whose first group is the account; empty when the host greets nobody
}

// Interface says where the host's interface is and how to prove oneself to it.
type Interface struct {
	URL       string `toml:"url"`       // https, with a "/" at the end; operations are relative to it
	Address   string `toml:"address"`   // as for SSH
	Authority string `toml:"authority"` // certificates (PEM) to trust in place of the system's
	Header    string `toml:"header"`    // "Name: value" with {token} in it
	Tokens    string `toml:"tokens"`    // the page on which a person makes a token
	Keys      string `toml:"keys"`      // the page on which a person pastes a public line
}

// An Operation is one request to the interface.
type Operation struct {
	Method string            `toml:"method"` // GET, POST, PUT or DELETE
	Path   string            `toml:"path"`   // a URI template [6570]
	Body   map[string]string `toml:"body"`   // members of a JSON object; each value is text with {name} in it
	Items  string            `toml:"items"`  // where the results are [9535]; empty for the whole answer
	Fields map[string]string `toml:"fields"` // what we call a value -> where it is in a result [9535]
	Open   bool              `toml:"open"`   // needs no token
}

// further lists the fields that an operation may find besides.
var further = map[string][]string{"list-keys": {"until", "used", "access"}}

// known lists the operations and the fields that each must find. The first two ask
// nothing but who one is and what the host's own keys are.
var known = map[string][]string{
	"who":        {"account"},
	"host-keys":  {"line"},
	"list-keys":  {"id", "title", "line"},
	"add-key":    {"id"},
	"remove-key": nil,
}

// A DescriptionError says what is wrong with a description and where.
type DescriptionError struct {
	Line  int    // counted from 1; 0 when it concerns the whole
	Place string // such as "operations.add-key.path"
	Words string
}

func (e *DescriptionError) Error() string {
	where := e.Place
	if e.Line > 0 {
		where = fmt.Sprintf("line %d: %s", e.Line, e.Place)
	}
	return strings.TrimPrefix(where+": "+e.Words, ": ")
}

// Parse reads a description strictly: a word that the language does not know is an error.
// Every failure is a *[DescriptionError].
func Parse(text []byte) (*Description, error) {
	if len(text) > MaxBytes {
		return nil, &DescriptionError{Words: fmt.Sprintf("larger than %d bytes", MaxBytes)}
	}
	d := &Description{}
	decoder := toml.NewDecoder(bytes.NewReader(text))
	decoder.DisallowUnknownFields()
	if err := decoder.Decode(d); err != nil {
		return nil, tomlError(err)
	}
	if err := d.check(); err != nil {
		return nil, err
	}
	return d, nil
}

func tomlError(err error) error {
	var strict *toml.StrictMissingError
	if errors.As(err, &strict) && len(strict.Errors) > 0 {
		first := strict.Errors[0]
		line, _ := first.Position()
		return &DescriptionError{Line: line, Place: strings.Join(first.Key(), "."), Words: "a word that the language does not know"}
	}
	var decode *toml.DecodeError
	if errors.As(err, &decode) {
		line, _ := decode.Position()
		return &DescriptionError{Line: line, Place: strings.Join(decode.Key(), "."), Words: strings.TrimPrefix(decode.Error(), "toml: ")}
	}
	return &DescriptionError{Words: "not TOML"}
}

func (d *Description) check() error {
	switch {
	case d.Version != Version:
		return &DescriptionError{Place: "unicrux", Words: fmt.Sprintf("version %d of the language; this program reads version %d", d.Version, Version)}
	case !isName(d.Name):
		return &DescriptionError{Place: "name", Words: "a short word of small letters, digits and hyphens"}
	case foreign.Clean(d.Title) != d.Title:
		return &DescriptionError{Place: "title", Words: "one line of text is needed"}
	case !isHost(d.SSH.Host):
		return &DescriptionError{Place: "ssh.host", Words: "a host name is needed"}
	case !isLogin(d.SSH.User):
		return &DescriptionError{Place: "ssh.user", Words: "a login name is needed"}
	case d.SSH.Port < 0 || d.SSH.Port > 65535:
		return &DescriptionError{Place: "ssh.port", Words: "a port is a number from 1 to 65535"}
	case d.SSH.Other < 0 || d.SSH.Other > 65535 || (d.SSH.Other != 0 && d.SSH.Other == d.Port()):
		return &DescriptionError{Place: "ssh.alternative-port", Words: "a port is a number from 1 to 65535, and another one than the first"}
	}
	return firstError(d.checkAddresses, d.checkHostKeys, d.checkGreeting, d.checkRefusals, d.checkKeyRules, d.checkInterface, d.checkOperations)
}

func firstError(checks ...func() error) error {
	for _, check := range checks {
		if err := check(); err != nil {
			return err
		}
	}
	return nil
}

func (d *Description) checkAddresses() error {
	for place, text := range map[string]string{"ssh.address": d.SSH.Address, "interface.address": d.Interface.Address} {
		if text == "" {
			continue
		}
		if _, err := netip.ParseAddr(text); err != nil {
			return &DescriptionError{Place: place, Words: "an IP address is needed"}
		}
	}
	return nil
}

func (d *Description) checkHostKeys() error {
	for i, line := range d.SSH.HostKeys {
		if _, _, err := sshkey.ParseLine([]byte(line)); err != nil {
			return &DescriptionError{Place: fmt.Sprintf("ssh.host-keys[%d]", i), Words: err.Error()}
		}
	}
	return nil
}

func (d *Description) checkGreeting() error {
	if d.SSH.Greeting == "" {
		return nil
	}
	if form, err := regexp.Compile(d.SSH.Greeting); err != nil || form.NumSubexp() != 1 {
		return &DescriptionError{Place: "ssh.greeting", Words: "a regular expression with one group, the account, is needed"}
	}
	return nil
}

func (d *Description) checkRefusals() error {
	for i, refusal := range d.Refusals {
		if _, err := regexp.Compile(refusal.Text); err != nil || refusal.Text == "" || !isName(refusal.Means) {
			return &DescriptionError{Place: fmt.Sprintf("refusals[%d]", i), Words: "a regular expression and the code that it means are needed"}
		}
	}
	return nil
}

func (d *Description) checkKeyRules() error {
	for _, kind := range d.Keys.Kinds {
		if kinds := append(sshkey.Kinds(), "ed25519-sk", "ecdsa-sk"); !slices.Contains(kinds, kind) {
			return &DescriptionError{Place: "keys.kinds", Words: "the kinds are " + strings.Join(kinds, ", ")}
		}
	}
	if d.Keys.Title < 0 {
		return &DescriptionError{Place: "keys.title", Words: "a number of characters is needed"}
	}
	return nil
}

func (d *Description) checkInterface() error {
	i := d.Interface
	for place, page := range map[string]string{"interface.tokens": i.Tokens, "interface.keys": i.Keys} {
		if foreign.Clean(page) != page || (page != "" && !strings.HasPrefix(page, "https://")) {
			return &DescriptionError{Place: place, Words: "an https address is needed"}
		}
	}
	if i.URL == "" {
		if len(d.Operations) > 0 {
			return &DescriptionError{Place: "interface.url", Words: "needed for the operations"}
		}
		return nil
	}
	base, err := url.Parse(i.URL)
	if err != nil || base.Scheme != "https" || base.Host == "" || base.User != nil || base.RawQuery != "" || !strings.HasSuffix(base.Path, "/") {
		return &DescriptionError{Place: "interface.url", Words: `an https address that ends with "/" is needed`}
	}
	if i.Authority != "" && !x509.NewCertPool().AppendCertsFromPEM([]byte(i.Authority)) {
		return &DescriptionError{Place: "interface.authority", Words: "certificates in PEM are needed"}
	}
	name, value, found := strings.Cut(i.Header, ": ")
	if i.Header != "" && (!found || name == "" || !strings.Contains(value, "{token}") || strings.ContainsAny(i.Header, "\r\n")) {
		return &DescriptionError{Place: "interface.header", Words: `the form "Name: value" with {token} in the value is needed`}
	}
	return nil
}

func (d *Description) checkOperations() error {
	for name, operation := range d.Operations {
		place := "operations." + name
		needed, found := known[name]
		if !found {
			return &DescriptionError{Place: place, Words: "an operation that the language does not know"}
		}
		if !slices.Contains([]string{"GET", "POST", "PUT", "DELETE"}, operation.Method) {
			return &DescriptionError{Place: place + ".method", Words: "GET, POST, PUT or DELETE is needed"}
		}
		if _, err := uritemplate.New(operation.Path); err != nil || strings.Contains(operation.Path, "://") || strings.HasPrefix(operation.Path, "/") {
			return &DescriptionError{Place: place + ".path", Words: "a template for a path relative to interface.url is needed"}
		}
		if _, err := parsePath(operation.Items); operation.Items != "" && err != nil {
			return &DescriptionError{Place: place + ".items", Words: err.Error()}
		}
		for _, field := range needed {
			if operation.Fields[field] == "" {
				return &DescriptionError{Place: place + ".fields." + field, Words: errPath.Error()}
			}
		}
		for field, path := range operation.Fields {
			if !slices.Contains(slices.Concat(needed, further[name]), field) {
				return &DescriptionError{Place: place + ".fields." + field, Words: "a field that this operation does not know"}
			}
			if _, err := parsePath(path); err != nil {
				return &DescriptionError{Place: place + ".fields." + field, Words: err.Error()}
			}
		}
	}
	return nil
}

// Port returns the port for SSH.
func (d *Description) Port() int {
	if d.SSH.Port == 0 {
		return 22
	}
	return d.SSH.Port
}

// Can tells whether the host's interface can be told to do something.
func (d *Description) Can(operation string) bool {
	_, found := d.Operations[operation]
	return found
}

// Account finds the account in the text with which the host greets; empty when it is not there.
func (d *Description) Account(greeting string) string {
	if d.SSH.Greeting == "" {
		return ""
	}
	match := regexp.MustCompile(d.SSH.Greeting).FindStringSubmatch(greeting)
	if match == nil {
		return ""
	}
	return match[1]
}

// Meaning returns the code that the host's words mean, or nothing.
func (d *Description) Meaning(words string) string {
	for _, refusal := range d.Refusals {
		if regexp.MustCompile(refusal.Text).MatchString(words) {
			return refusal.Means
		}
	}
	return ""
}

// StaticKeys returns the host keys that stand in the description itself.
func (d *Description) StaticKeys() []ssh.PublicKey {
	var keys []ssh.PublicKey
	for _, line := range d.SSH.HostKeys {
		if key, _, err := sshkey.ParseLine([]byte(line)); err == nil {
			keys = append(keys, key)
		}
	}
	return keys
}
