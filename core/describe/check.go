package describe

import (
	"crypto/x509"
	"fmt"
	"net/url"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"anchorage.example/unicrux/core/allow"
	"anchorage.example/unicrux/core/expiry"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/strict"
	"anchorage.example/unicrux/core/untrusted"
)

func wrong(place, format string, args ...any) error {
	return &Error{Place: place, Message: fmt.Sprintf(format, args...)}
}

func (d *Description) check() error {
	switch {
	case d.Version != Version:
		return wrong("unicrux", "version %d of the language; this program reads version %d", d.Version, Version)
	case !allow.Name(d.Name):
		return wrong("name", "a short word of small letters, digits and hyphens is needed")
	case d.Learned != "" && !isDay(d.Learned):
		return wrong("learned", "a day such as 2026-11-30 is needed")
	case untrusted.Clean(d.Title) != d.Title:
		return wrong("title", "one line of text is needed")
	case strings.ContainsAny(d.HTTPS.Username, "\r\n\x00:@/") || untrusted.Clean(d.HTTPS.Username) != d.HTTPS.Username:
		return wrong("https.username", "a user name, or {account}, is needed")
	}
	return firstError(d.checkSSH, func() error { return checkTexts("", reflect.ValueOf(d).Elem()) }, d.checkAddresses,
		d.checkURLs, d.checkHostKeys, d.checkExpressions, d.checkRules, d.checkInterface, d.checkOAuth,
		func() error { return checkWords("words", d.Words) }, d.checkOperations, d.checkLookups)
}

func isDay(text string) bool {
	_, err := time.Parse(time.DateOnly, text)
	return err == nil
}

// checkSSH looks at how the host is reached over SSH, which a host by HTTPS alone says nothing of.
func (d *Description) checkSSH() error {
	switch {
	case !d.HasSSH() && d.HTTPS.URL == "":
		return wrong("ssh.host", "a host name is needed, or https.url for a host that is reached by HTTPS alone")
	case !d.HasSSH() && !reflect.DeepEqual(d.SSH, SSH{}):
		return wrong("ssh.host", "a host name is needed where anything else is said of SSH")
	case !d.HasSSH():
		return nil
	case !allow.HostOrIP(d.SSH.Host):
		return wrong("ssh.host", "a host name is needed")
	case !allow.Login(d.SSH.User):
		return wrong("ssh.user", "a login name is needed")
	case d.SSH.Port < 0 || d.SSH.Port > 65535:
		return wrong("ssh.port", "a port is a number from 1 to 65535")
	case d.SSH.Other < 0 || d.SSH.Other > 65535 || (d.SSH.Other != 0 && d.SSH.Other == d.Port()):
		return wrong("ssh.alternative-port", "a port is a number from 1 to 65535, and another one than the first")
	}
	return nil
}

func firstError(checks ...func() error) error {
	for _, check := range checks {
		if err := check(); err != nil {
			return err
		}
	}
	return nil
}

// checkTexts refuses characters in any text of a description that could steer a terminal, paint
// over what a person is to compare, or end a line of a file that it gets into.
func checkTexts(place string, value reflect.Value) error {
	switch value.Kind() {
	case reflect.String:
		text := value.String()
		if strings.HasSuffix(place, "authority") { // PEM (RFC 7468) has lines
			text = strings.NewReplacer("\r\n", "", "\n", "").Replace(text)
		}
		if strings.ContainsFunc(text, untrusted.Steers) || !utf8.ValidString(text) {
			return wrong(place, "a control character, which a description must not have")
		}
	case reflect.Struct:
		for i := range value.NumField() {
			if tag := value.Type().Field(i).Tag.Get("toml"); tag != "-" {
				if err := checkTexts(below(place, tag), value.Field(i)); err != nil {
					return err
				}
			}
		}
	case reflect.Slice:
		for i := range value.Len() {
			if err := checkTexts(fmt.Sprintf("%s[%d]", place, i), value.Index(i)); err != nil {
				return err
			}
		}
	case reflect.Map:
		for _, key := range value.MapKeys() {
			if name := key.String(); strings.ContainsFunc(name, untrusted.Steers) {
				return wrong(place, "a control character in a name")
			}
			if err := checkTexts(below(place, key.String()), value.MapIndex(key)); err != nil {
				return err
			}
		}
	case reflect.Interface:
		return checkTexts(place, value.Elem())
	}
	return nil
}

// below is the place of a word inside another; what is embedded has none of its own.
func below(place, word string) string { return strings.Trim(place+"."+word, ".") }

// A named value stands at a place of the description.
type named struct{ place, text string }

func (d *Description) checkAddresses() error {
	for _, address := range []named{{"ssh.address", d.SSH.Address}, {"https.address", d.HTTPS.Address},
		{"interface.address", d.Interface.Address}, {"oauth.address", d.OAuth.Address}} {
		if address.text != "" && !allow.IP(address.text) {
			return wrong(address.place, "an IP address is needed")
		}
	}
	for _, authority := range []named{{"https.authority", d.HTTPS.Authority},
		{"interface.authority", d.Interface.Authority}, {"oauth.authority", d.OAuth.Authority}} {
		if authority.text != "" && !x509.NewCertPool().AppendCertsFromPEM([]byte(authority.text)) {
			return wrong(authority.place, "certificates in PEM are needed")
		}
	}
	return nil
}

// checkURLs looks at every address that a person or we may go to.
func (d *Description) checkURLs() error {
	for _, page := range []named{{"pages.keys", d.Pages.Keys}, {"pages.tokens", d.Pages.Tokens},
		{"pages.repositories", d.Pages.Repositories}, {"pages.host-keys", d.Pages.HostKeys},
		{"oauth.issuer", d.OAuth.Issuer}, {"oauth.device", d.OAuth.Device}, {"oauth.authorize", d.OAuth.Authorize},
		{"oauth.token", d.OAuth.Token}, {"oauth.revoke", d.OAuth.Revoke}, {"oauth.introspect", d.OAuth.Introspect}} {
		if page.text != "" && !isHTTPS(page.text, "") {
			return wrong(page.place, "an https address is needed")
		}
	}
	for i, text := range d.OAuth.Also {
		if !isHTTPS(text, "") {
			return wrong(fmt.Sprintf("oauth.also[%d]", i), "an https address is needed")
		}
	}
	for _, base := range []named{{"https.url", d.HTTPS.URL}, {"interface.url", d.Interface.URL}} {
		if base.text != "" && !isHTTPS(base.text, "/") {
			return wrong(base.place, `an https address that ends with "/" is needed`)
		}
	}
	return nil
}

// isHTTPS tells whether a text is an https address without a person or a fragment in it.
func isHTTPS(text, end string) bool {
	target, err := url.Parse(text)
	return err == nil && untrusted.Clean(text) == text && target.Scheme == "https" &&
		allow.HostOrIP(target.Hostname()) && target.User == nil &&
		(end == "" || target.RawQuery == "" && strings.HasSuffix(target.Path, end)) && target.Fragment == ""
}

func (d *Description) checkHostKeys() error {
	for i, line := range d.SSH.HostKeys {
		if _, _, err := sshkey.ParseLine([]byte(line)); err != nil {
			return wrong(fmt.Sprintf("ssh.host-keys[%d]", i), "%s", err)
		}
	}
	for i, text := range d.SSH.Fingerprints {
		if !sshkey.IsFingerprint(text) {
			return wrong(fmt.Sprintf("ssh.fingerprints[%d]", i), `a fingerprint such as "SHA256:…" is needed`)
		}
	}
	return nil
}

func (d *Description) checkExpressions() error {
	if form, err := regexp.Compile(d.SSH.Greeting); err != nil || (d.SSH.Greeting != "" && form.NumSubexp() != 1) {
		return wrong("ssh.greeting", "a regular expression with one group, the account, is needed")
	}
	if _, err := regexp.Compile(d.Tokens.Form); err != nil {
		return wrong("tokens.form", "a regular expression is needed")
	}
	for i, refusal := range d.Refusals {
		if _, err := regexp.Compile(refusal.Text); err != nil || refusal.Text == "" || !allow.Name(refusal.Means) {
			return wrong(fmt.Sprintf("refusals[%d]", i), "a regular expression and the code that it means are needed")
		}
	}
	return nil
}

func (d *Description) checkRules() error {
	for _, kind := range d.Keys.Kinds {
		if kinds := append(sshkey.Kinds(), "ed25519-sk", "ecdsa-sk"); !slices.Contains(kinds, kind) {
			return wrong("keys.kinds", "the kinds are %s, not %q", strings.Join(kinds, ", "), kind)
		}
	}
	if d.Keys.Title < 0 {
		return wrong("keys.title", "a number of characters is needed")
	}
	if d.Tokens.Label < 0 {
		return wrong("tokens.label", "a number of characters is needed")
	}
	if _, err := expiry.End(d.Tokens.Longest, time.Now()); d.Tokens.Longest != "" && err != nil {
		return wrong("tokens.longest", "a span such as 365d, 12w or 1y is needed")
	}
	for purpose, scopes := range d.Purposes {
		if !slices.Contains(Purposes(), purpose) {
			return wrong("purposes."+purpose, "a purpose that the language does not know%s",
				strict.Meant(purpose, Purposes()))
		}
		if slices.ContainsFunc(scopes, func(s string) bool { return s == "" || untrusted.Clean(s) != s }) {
			return wrong("purposes."+purpose, "a list of the host's own scopes is needed")
		}
	}
	return nil
}

func (d *Description) checkInterface() error {
	i := d.Interface
	if i.URL == "" && len(d.Operations)+len(d.Lookups) > 0 {
		return wrong("interface.url", "needed for the operations")
	}
	ways := 0
	for _, way := range []struct{ place, text, hold string }{
		{"interface.header", i.Header, "{token}"}, {"interface.basic", i.Basic, "{token}"},
		{"interface.password.basic", i.Password.Basic, "{password}"},
		{"interface.password.second-step", i.Password.Second, "{code}"}} {
		sign := map[bool]string{true: ":", false: ": "}[strings.HasSuffix(way.place, "basic")]
		name, value, found := strings.Cut(way.text, sign)
		switch {
		case way.text == "":
			continue
		case !found || strings.ContainsAny(way.text, "\r\n") || (sign == ": " && !isHeaderName(name)) ||
			!strings.Contains(name+value, way.hold):
			return wrong(way.place, "the form %q is needed", map[string]string{": ": "Name: value with " + way.hold,
				":": "user:password with " + way.hold}[sign])
		}
		if strings.HasPrefix(way.place, "interface.header") || way.place == "interface.basic" {
			ways++
		}
	}
	if i.Query != "" {
		ways++
	}
	switch {
	case ways > 1:
		return wrong("interface", "only one of header, basic and query can carry the token")
	case i.Query != "" && strings.Trim(i.Query, allow.Letters+allow.Digits+"_-.") != "":
		return wrong("interface.query", "the name of a parameter is needed")
	case i.Dates != "" && !slices.Contains(datesForms, i.Dates):
		return wrong("interface.dates", "the forms are %s", strings.Join(datesForms, ", "))
	}
	if err := checkHeaders("interface.headers.", i.Headers); err != nil {
		return err
	}
	for n, text := range i.Errors {
		if err := place(text); err != nil {
			return wrong(fmt.Sprintf("interface.errors[%d]", n), "%s", err)
		}
	}
	return nil
}

// checkHeaders looks at headers that go with requests.
func checkHeaders(at string, headers map[string]string) error {
	for name, value := range headers {
		if !isHeaderName(name) || strings.ContainsAny(value, "\r\n") ||
			slices.Contains([]string{"authorization", "host", "cookie"}, strings.ToLower(name)) {
			return wrong(at+name, "the name of a header is needed that is not about who asks, and one line")
		}
	}
	return nil
}

func isHeaderName(text string) bool {
	return text != "" && strings.Trim(text, allow.Letters+allow.Digits+"-_") == ""
}

func (d *Description) checkOAuth() error {
	o := d.OAuth
	switch {
	case o.Client == "" && (o.Issuer != "" || o.Device != "" || o.Authorize != "" || o.Token != ""):
		return wrong("oauth.client", "the id under which the host knows Unicrux is needed")
	case o.Client != "" && o.Issuer == "" && (o.Device+o.Authorize == "" || o.Token == ""):
		return wrong("oauth.issuer", "the issuer is needed, or token and one of device and authorize")
	}
	return nil
}

func checkWords(at string, words Words) error {
	for name, values := range words {
		for ours, theirs := range values {
			if !isScalar(theirs) {
				list, ok := theirs.([]any)
				if !ok || len(list) == 0 || slices.ContainsFunc(list, func(v any) bool { return !isScalar(v) }) {
					return wrong(at+"."+name+"."+ours, "one value, or a list of values, is needed")
				}
			}
		}
		if known, found := ourWords[name]; found {
			for ours := range values {
				if !slices.Contains(known, ours) {
					return wrong(at+"."+name+"."+ours, "our words here are %s", strings.Join(known, " and "))
				}
			}
		} else {
			return wrong(at+"."+name, "only these have words of ours: access, visibility, frozen")
		}
	}
	return nil
}

// ourWords are those of ours that a host may say otherwise.
var ourWords = map[string][]string{"access": {"read", "write"}, "visibility": {"private", "public"},
	"frozen": {"yes", "no"}}

func isScalar(value any) bool {
	switch value.(type) {
	case string, bool, int64, float64:
		return true
	}
	return false
}
