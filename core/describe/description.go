package describe

import (
	"fmt"
	"net/http"
	"net/url"
	"regexp"
	"strconv"
	"strings"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/allow"
	"anchorage.example/unicrux/core/sshkey"
)

// MaxBytes bounds a description.
const MaxBytes = 256 << 10

// Version is the version of the language that this program reads.
const Version = 1

// A Description is what Unicrux knows about one host.
type Description struct {
	Version int    `toml:"unicrux"` // of the language: 1
	Name    string `toml:"name"`    // what you call the host: a short word
	Title   string `toml:"title"`   // what the host calls itself
	// the day on which Unicrux made the description of a clone URL; empty for one that somebody wrote
	Learned string `toml:"learned"`

	SSH       SSH                 `toml:"ssh"`
	HTTPS     HTTPS               `toml:"https"`
	Pages     Pages               `toml:"pages"`
	Keys      KeyRules            `toml:"keys"`
	Tokens    TokenRules          `toml:"tokens"`
	Purposes  map[string][]string `toml:"purposes"` // what one wants to do -> the host's own scopes
	Interface Interface           `toml:"interface"`
	OAuth     OAuth               `toml:"oauth"`
	Refusals  []RefusalText       `toml:"refusals"`

	// Operations says how the interface is told things, by the names in [Operations]. What is
	// missing is done by hand.
	Operations map[string]Operation `toml:"operations"`

	// Lookups find a value that the templates of operations need, by its name there.
	Lookups map[string]Lookup `toml:"lookups"`

	// Words translate what we say into what the host says: "access", then "read", then the
	// host's own value or values.
	Words Words `toml:"words"`

	// Managed is the file from which it was read where the administrator keeps it for the whole machine; empty for one
	// that the person added.
	Managed string `toml:"-"`

	// Chosen is what a person chose where a lookup finds several, by the name of the lookup.
	Chosen map[string]string `toml:"-"`

	// ForAccount is set where this is the host as it is for one account of several.
	ForAccount string `toml:"-"`

	// Proxy tells how the interface is reached; nil for directly.
	Proxy func(*http.Request) (*url.URL, error) `toml:"-"`
}

// Words are the host's values for ours: by variable or field, then by our value.
type Words map[string]map[string]any

// KeyRules are what a host demands of keys.
type KeyRules struct {
	Kinds []string `toml:"kinds"` // ed25519, ecdsa, rsa; empty for all of them
	Title int      `toml:"title"` // most characters of a title; 0 for no limit that we know of
}

// TokenRules are what is known of a host's tokens.
type TokenRules struct {
	Longest string `toml:"longest"` // the longest life: such as 365d; empty for no limit
	Label   int    `toml:"label"`   // most characters of a label; 0 for no limit that we know of
	Form    string `toml:"form"`    // regular expression (RE2) that every token of the host's fits
}

// A RefusalText says what the host's words mean when it refuses.
type RefusalText struct {
	Text  string `toml:"text"`  // regular expression (RE2) found in the words
	Means string `toml:"means"` // a code of the catalogue
}

// SSH says how git reaches the host over SSH; empty for a host that is reached by HTTPS alone.
type SSH struct {
	Host  string `toml:"host"`             // the name in clone URLs
	User  string `toml:"user"`             // the login that everybody shares, "git" most often
	Port  int    `toml:"port"`             // 0 means 22
	Other int    `toml:"alternative-port"` // another port, for networks where the first is closed; 0 for none
	// an IP address to use in place of the name; empty asks the name servers
	Address  string   `toml:"address"`
	HostKeys []string `toml:"host-keys"` // published host keys, as public lines
	// of published host keys (SHA256:…), where a host publishes only these
	Fingerprints []string `toml:"fingerprints"`
	// regular expression (RE2) whose first group is the account; empty when the host greets nobody
	Greeting string `toml:"greeting"`
}

// HTTPS says how git reaches the host over HTTPS.
type HTTPS struct {
	URL       string `toml:"url"`       // with which its clone URLs begin; https, with "/" at the end
	Username  string `toml:"username"`  // what git gives beside a token: a text with {account} in it, or without
	Address   string `toml:"address"`   // as for SSH
	Authority string `toml:"authority"` // certificates (PEM) to trust
}

// Pages are those on which a person does by hand what the interface cannot be told.
type Pages struct {
	Keys         string `toml:"keys"`
	Tokens       string `toml:"tokens"`
	Repositories string `toml:"repositories"`
	HostKeys     string `toml:"host-keys"`
}

// Interface says where the host's interface is and how to prove oneself to it.
type Interface struct {
	URL       string            `toml:"url"`       // https, with a "/" at the end; operations are relative to it
	Address   string            `toml:"address"`   // as for SSH
	Authority string            `toml:"authority"` // certificates (PEM) to trust in place of the system's
	Header    string            `toml:"header"`    // "Name: value" with {token} in it
	Basic     string            `toml:"basic"`     // "user:password" with {token} in it, for Basic sign-in (RFC 7617)
	Query     string            `toml:"query"`     // the name of the query parameter that carries the token
	Headers   map[string]string `toml:"headers"`   // that go with every request
	Dates     string            `toml:"dates"`     // how times are told to it; see dates
	Errors    []string          `toml:"errors"`    // where its words are when it refuses [9535]; empty for RFC 9457
	// what stands before the JSON of its answers, so that browsers do not run it
	Guard string `toml:"guard"`
	// the header that says when to come again, where it is not Retry-After
	RetryAt string `toml:"retry-at"`

	Password Password `toml:"password"`
}

// Password says how an account signs in with its password, where only that issues tokens.
type Password struct {
	Basic  string `toml:"basic"`       // "user:password" with {account} and {password} in it
	Second string `toml:"second-step"` // "Name: value" with {code} in it, sent when the host wants a second step
	Asks   string `toml:"asks"`        // the header in a refusal that says so, as "Name: beginning of value"
}

// OAuth says where the host's authorization server is. It is a public client that signs in:
// no secret stands in a description.
type OAuth struct {
	Issuer     string            `toml:"issuer"`     // of the metadata [8414]; https
	Client     string            `toml:"client"`     // the client's id there
	Also       []string          `toml:"also"`       // further origins on which the metadata may place its endpoints
	Device     string            `toml:"device"`     // the endpoints, where there is no metadata
	Authorize  string            `toml:"authorize"`  //
	Token      string            `toml:"token"`      //
	Revoke     string            `toml:"revoke"`     //
	Introspect string            `toml:"introspect"` //
	Parameters map[string]string `toml:"parameters"` // that go with the request for a code
	Address    string            `toml:"address"`    // as for SSH
	Authority  string            `toml:"authority"`  // as for the interface
}

// An Operation is one request to the interface.
type Operation struct {
	Method  string            `toml:"method"`  // GET, POST, PUT, PATCH or DELETE; GET when it is left out
	Path    string            `toml:"path"`    // a URI template [6570]
	Body    map[string]any    `toml:"body"`    // a JSON object, with {name} in its texts
	Form    map[string]any    `toml:"form"`    // the same as a form (WHATWG URL, application/x-www-form-urlencoded)
	Text    string            `toml:"text"`    // the same as plain text
	Headers map[string]string `toml:"headers"` // that go with it, before those of the interface
	Items   string            `toml:"items"`   // where the results are [9535]; empty for the whole answer
	Fields  map[string]Places `toml:"fields"`  // what we call a value -> where it is in a result
	Cut     map[string]string `toml:"cut"`     // what we call a value -> the form (RE2) of which the first group is it
	Open    bool              `toml:"open"`    // needs no token
	SignIn  string            `toml:"sign-in"` // "password" where the account's password is wanted in place of a token
	Success []int             `toml:"success"` // status that means done; empty for 200 to 299
	Already []int             `toml:"already"` // status that means that it is so already
	Gone    []int             `toml:"gone"`    // status that means that there is no such thing
	Refused string            `toml:"refused"` // where an answer that looks like success tells a refusal [9535]
	Paging  Paging            `toml:"paging"`
	Dates   string            `toml:"dates"` // as for the interface
	Words   Words             `toml:"words"` // before the description's own

	// Whole names the operation that lists what this one replaces as a whole: the list is read, Entry is put in, or the
	// one that is to be removed is taken out, and {entries} is what comes out.
	Whole string `toml:"whole"`
	Entry any    `toml:"entry"`
}

// Paging says how a long list goes on.
type Paging struct {
	By    string `toml:"by"`    // link (RFC 8288), next, page, cursor or offset; empty for one page
	At    string `toml:"at"`    // where the next URL or the cursor is
	First int    `toml:"first"` // the number of the first page; 1 when it is left out and by is page
	Last  string `toml:"last"`  // where the number of the last page is; empty goes on to an empty page
	More  string `toml:"more"`  // where it says whether there is more
}

// A Lookup is a request whose result is a value for templates.
type Lookup struct {
	Operation
	Value Places            `toml:"value"` // where the value is in a result
	Match map[string]string `toml:"match"` // place -> template: only the result where both are the same
	Ask   Places            `toml:"ask"`   // what a person is shown of each where there are several, to choose one
}

// HasSSH reports whether git reaches the host over SSH; else it does by HTTPS alone.
func (d *Description) HasSSH() bool { return d.SSH.Host != "" }

// IsLearned reports whether Unicrux made the description of a clone URL. Then it says where the host is and no more:
// how ssh goes there is as the URL and the person's own ssh config say.
func (d *Description) IsLearned() bool { return d.Learned != "" }

// SSHAddress is the host for ssh: its name alone, since ssh config has what the description says; for a learned host
// also the login and the port.
func (d *Description) SSHAddress() address.Address {
	a := address.Address{Scheme: "ssh", Host: d.HostName()}
	if d.IsLearned() {
		a.User, a.Port = d.SSH.User, uint16(d.SSH.Port)
	}
	return a
}

// HostName is the host's name in clone URLs: over SSH, or for a host by HTTPS alone over that.
func (d *Description) HostName() string {
	if d.HasSSH() {
		return d.SSH.Host
	}
	at, err := url.Parse(d.HTTPS.URL)
	if err != nil {
		return ""
	}
	return allow.LowerHost(at.Hostname())
}

// Port returns the port for SSH; for a host that is reached by HTTPS alone the one for that.
func (d *Description) Port() int {
	switch {
	case d.SSH.Port != 0:
		return d.SSH.Port
	case d.HasSSH():
		return 22
	}
	if at, err := url.Parse(d.HTTPS.URL); err == nil && at.Port() != "" {
		port, _ := strconv.Atoi(at.Port()) // a URL has a number there
		return port
	}
	return 443
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

// between stands in an alias between the account and the host's name.
const between = "--"

// Alias is the name by which ssh knows a host for an account.
func Alias(account, hostName string) string { return account + between + hostName }

// As is the description of the host for one account: another name for ssh, the same in all else.
func (d *Description) As(account string) *Description {
	other := *d
	other.ForAccount = account
	other.Name = account + "@" + d.Name
	if d.HasSSH() {
		other.SSH.Host = Alias(account, d.SSH.Host)
	}
	return &other
}

// HTTPSAt is the host, with its port when one stands there, in HTTPS clone URLs: for that alone
// git asks for a secret.
func (d *Description) HTTPSAt() string {
	if target, err := url.Parse(d.HTTPS.URL); err == nil && target.Host != "" {
		return allow.LowerHost(target.Host)
	}
	return allow.LowerHost(strings.TrimPrefix(d.SSH.Host, Alias(d.ForAccount, "")))
}

// AtPort is a learned host at another port for ssh than the one that it was learned with: another server at the same
// name, called NAME:PORT. Of a host that somebody described, ssh config says the port.
func (d *Description) AtPort(port int) *Description {
	if !d.IsLearned() || !d.HasSSH() || port == d.Port() {
		return d
	}
	other := *d
	other.SSH.Port, other.Name = port, fmt.Sprintf("%s:%d", d.Name, port)
	return &other
}

// GitUser is what git gives as user name beside a token of an account.
func (d *Description) GitUser(account string) string {
	if d.HTTPS.Username == "" {
		return account
	}
	return strings.ReplaceAll(d.HTTPS.Username, "{account}", account)
}

// Addresses lists every origin that the description names, to which something may be sent.
func (d *Description) Addresses() []string {
	var list []string
	seen := map[string]bool{}
	add := func(text string) {
		if target, err := url.Parse(text); err == nil && target.Host != "" && !seen[target.Host] {
			seen[target.Host] = true
			list = append(list, "https://"+target.Host)
		}
	}
	for _, text := range []string{d.HTTPS.URL, d.Interface.URL, d.OAuth.Issuer, d.OAuth.Device, d.OAuth.Authorize,
		d.OAuth.Token, d.OAuth.Revoke, d.OAuth.Introspect} {
		add(text)
	}
	for _, text := range d.OAuth.Also {
		add(text)
	}
	return list
}
