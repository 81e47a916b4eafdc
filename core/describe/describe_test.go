package describe

import (
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"
)

const minimal = `unicrux = 1
name = "forge"
[ssh]
host = "forge.tidewater.example"
user = "git"
`

func TestParse(t *testing.T) {
	t.Parallel()
	d, err := Parse([]byte(minimal))
	if err != nil || d.Port() != 22 || d.Can("add-key") || d.Account("hello") != "" {
		t.Fatalf("%+v, %v", d, err)
	}
	d, err = Parse([]byte(inter +
		"[operations.who]\npath = \"me\"\nfields = { account = [\"$.a\", \"header X-A\"] }\n[oauth]\nissuer = \"https://id.tidewater.example/\"\nclient = \"unicrux\"\n"))
	if err != nil || len(d.Operations["who"].Fields["account"]) != 2 {
		t.Fatalf("%+v, %v", d, err)
	}
	if got := d.Addresses(); !slices.Equal(got, []string{"https://forge.tidewater.example",
		"https://id.tidewater.example"}) {
		t.Errorf("secrets may go to %v", got)
	}
	if as := d.As("lab"); as.SSH.Host != "lab--forge.tidewater.example" || as.Name != "lab@forge" ||
		d.ForAccount != "" {
		t.Errorf("as an account: %+v", as)
	}
	for _, name := range Names() {
		if _, found := Operations[name]; !found {
			t.Errorf("%s is no operation", name)
		}
	}
}

// inter is a description with an interface, to which operations can be added.
const inter = minimal + "[interface]\nurl = \"https://forge.tidewater.example/api/\"\n"

// TestMistakes has every mistake that the reference names, with its place, its line and a part
// of its sentence.
func TestMistakes(t *testing.T) {
	t.Parallel()
	const who = "[operations.who]\npath = \"me\"\nfields = { account = \"$.a\" }\n"
	for _, row := range []struct {
		name, text, place string
		line              int
		words             string
	}{
		{"no TOML", "unicrux = ", "", 1, ""},
		{"unknown table", minimal + "\n[ssh2]\n", "ssh2", 7, `"ssh" was perhaps meant`},
		{"unknown word", inter + "headr = \"x\"\n", "interface.headr", 8, `"header" was perhaps meant`},
		{"unknown word of an operation", inter + who + "pagin = 1\n", "operations.who.pagin", 11,
			`"paging" was perhaps meant`},
		{"wrong type", strings.Replace(minimal, `"git"`, "7", 1), "ssh.user", 5, ""},
		{"another version", strings.Replace(minimal, "= 1", "= 9", 1), "unicrux", 1, "version 9"},
		{"a name with a path", strings.Replace(minimal, `"forge"`, `"a/b"`, 1), "name", 2, "short word"},
		{"a host that is an option", strings.Replace(minimal, "forge.tide", "-forge.tide", 1), "ssh.host",
			4, "host name"},
		{"a login with a line end", strings.Replace(minimal, `"git"`, `"git\nx"`, 1), "ssh.user", 5, "login"},
		{"a title that steers the terminal", "title = \"\\u001b[31m\"\n" + minimal, "title", 1, "one line"},
		{"a page that is none", minimal + "[pages]\nkeys = \"javascript:x\"\n", "pages.keys", 7, "https"},
		{"port", minimal + "port = 70000\n", "ssh.port", 6, "1 to 65535"},
		{"the same port twice", minimal + "alternative-port = 22\n", "ssh.alternative-port", 6, "another one"},
		{"address", minimal + "address = \"here\"\n", "ssh.address", 6, "IP address"},
		{"address with a zone", minimal + "address = \"::1%h\"\n", "ssh.address", 6, "IP address"},
		{"address with a zone that is a file", minimal + "address = \"::1%h\\nHost\\r*\\nProxyCommand\\r/bin/true\"\n",
			"ssh.address", 6, "control character"},
		{"a zone in a URL", minimal + "[https]\nurl = \"https://[fe80::1%25h]/\"\n", "https.url", 7, "https"},
		{"a page that paints", minimal + "[pages]\nkeys = \"https://forge/\\u001b[1A\"\n", "pages.keys", 7,
			"control character"},
		{"words that turn around", minimal + "[[refusals]]\ntext = \"a\\u202eb\"\nmeans = \"x\"\n", "refusals[0].text",
			7, "control character"},
		{"a value in a body", inter +
			"[operations.add-key]\nmethod = \"POST\"\npath = \"k\"\nbody = { k = \"{line}\", x = [\"a\\rb\"] }\n",
			"operations.add-key.body.x[0]", 11, "control character"},
		{"host key", minimal + "host-keys = [\"ssh-rsa x\"]\n", "ssh.host-keys[0]", 6, ""},
		{"fingerprint", minimal + "fingerprints = [\"SHA256:x\"]\n", "ssh.fingerprints[0]", 6, "fingerprint"},
		{"greeting without a group", minimal + "greeting = \"hello\"\n", "ssh.greeting", 6, "one group"},
		{"plain http", minimal + "[interface]\nurl = \"http://forge/\"\n", "interface.url", 7, "https"},
		{"a password in the address", minimal + "[interface]\nurl = \"https://a:b@forge/\"\n",
			"interface.url", 7, "https"},
		{"no certificates", inter + "authority = \"x\"\n", "interface.authority", 8, "PEM"},
		{"header without token", inter + "header = \"A: b\"\n", "interface.header", 8, "{token}"},
		{"two ways to sign in", inter + "header = \"A: {token}\"\nquery = \"t\"\n", "interface", 6, "only one"},
		{"a header about who asks", inter + "headers = { Authorization = \"x\" }\n", "interface.headers.Authorization",
			8, "not about who asks"},
		{"dates", inter + "dates = \"roman\"\n", "interface.dates", 8, "rfc3339"},
		{"purpose", minimal + "[purposes]\npsh = [\"x\"]\n", "purposes.psh", 7, `"push" was perhaps meant`},
		{"longest", minimal + "[tokens]\nlongest = \"long\"\n", "tokens.longest", 7, "span"},
		{"OAuth without a client", minimal + "[oauth]\nissuer = \"https://forge/\"\n", "oauth.client", 6, "id"},
		{"OAuth without an address", minimal + "[oauth]\nclient = \"x\"\n", "oauth.issuer", 6, "issuer"},
		{"operation without interface", minimal + who, "interface.url", 0, "needed"},
		{"unknown operation", inter + "[operations.hoo]\npath = \"x\"\n", "operations.hoo", 8,
			`"who" was perhaps meant`},
		{"method", inter + who + "method = \"LOOK\"\n", "operations.who.method", 11, "GET"},
		{"path elsewhere", inter + "[operations.who]\npath = \"/x\"\n", "operations.who.path", 9, "relative"},
		{"no template", inter + "[operations.who]\npath = \"{x\"\n", "operations.who.path", 9, "6570"},
		{"template without a value", inter + "[operations.remove-key]\nmethod = \"DELETE\"\npath = \"keys/{di}\"\n",
			"operations.remove-key", 8, `{di} has no value here; "id" was perhaps meant`},
		{"nothing of the key is told", inter + "[operations.remove-key]\nmethod = \"DELETE\"\npath = \"keys\"\n",
			"operations.remove-key", 8, "{id} or {title}"},
		{"GET with a body", inter + who + "body = { a = 1 }\n", "operations.who.method", 8, "carries nothing"},
		{"body and form", inter + who + "method = \"POST\"\nbody = { a = 1 }\nform = { a = 1 }\n",
			"operations.who.form", 13, "not several"},
		{"field missing", inter + "[operations.who]\npath = \"x\"\n", "operations.who.fields.account", 8, "must find"},
		{"unknown field", inter +
			"[operations.who]\npath = \"x\"\n[operations.who.fields]\naccount = \"$\"\nscops = \"$\"\n",
			"operations.who.fields.scops", 12, `"scopes" was perhaps meant`},
		{"no place", inter + "[operations.who]\npath = \"x\"\nfields = { account = \"a\" }\n",
			"operations.who.fields.account", 10, "JSONPath"},
		{"half a filter", inter + who + "items = \"$.keys[?@.a=='b'\"\n", "operations.who.items", 11, "cannot be read"},
		{"paging without a variable", inter + who + "paging = { by = \"page\" }\n", "operations.who.paging",
			11, "{page}"},
		{"paging of no kind", inter + who + "paging = { by = \"leaf\" }\n", "operations.who.paging.by", 11,
			"link, next"},
		{"paging without a place", inter + who + "paging = { by = \"next\" }\n", "operations.who.paging.at",
			11, "missing"},
		{"status", inter + who + "success = [7]\n", "operations.who.success", 11, "status"},
		{"password sign-in that nothing describes", inter + who + "sign-in = \"password\"\n", "operations.who.sign-in",
			11, "interface.password.basic"},
		{"words of nobody", inter + "[words]\ncolour = { red = 1 }\n", "words.colour", 9, "access, visibility, frozen"},
		{"words that are not ours", inter + "[words]\naccess = { admin = 1 }\n", "words.access.admin", 9,
			"read and write"},
		{"lookup with a known name", inter + "[lookups.id]\npath = \"x\"\nvalue = \"$\"\n", "lookups.id", 8,
			"no other value"},
		{"lookups in a circle", inter +
			"[lookups.a]\npath = \"{b}\"\nvalue = \"$\"\n[lookups.b]\npath = \"{a}\"\nvalue = \"$\"\n", "lookups.a", 8,
			"needs itself"},
		{"lookup without a value", inter + "[lookups.a]\npath = \"x\"\n", "lookups.a.value", 8, "missing"},
		{"a whole list without its list", inter +
			"[operations.add-key]\nmethod = \"PUT\"\npath = \"k\"\nentry = \"{line}\"\nbody = { k = \"{entries}\" }\nfields = { id = \"$\" }\n",
			"operations.add-key.whole", 8, "missing"},
		{"a whole list that would be lost", inter +
			"[operations.list-keys]\npath = \"k\"\nfields = { id = \"$.i\", line = \"$.l\" }\n" +
			"[operations.add-key]\nmethod = \"PUT\"\npath = \"k\"\nwhole = \"list-keys\"\nentry = \"{line}\"\nbody = { k = \"x\" }\n",
			"operations.add-key", 11, "would be lost"},
		{"a whole list of something else", inter +
			"[operations.add-key]\nmethod = \"PUT\"\npath = \"k\"\nwhole = \"list-repos\"\nentry = \"{line}\"\nbody = { k = \"{entries}\" }\n",
			"operations.add-key.whole", 11, "lists the same"},
		{"nothing to put in", inter +
			"[operations.list-keys]\npath = \"k\"\nfields = { id = \"$.i\", line = \"$.l\" }\n" +
			"[operations.add-key]\nmethod = \"PUT\"\npath = \"k\"\nwhole = \"list-keys\"\nbody = { k = \"{entries}\" }\n",
			"operations.add-key.entry", 11, "put into the list"},
		{"refusal", minimal + "[[refusals]]\ntext = \"(\"\nmeans = \"x\"\n", "refusals[0]", 6, "regular expression"},
		{"too large", minimal + strings.Repeat("#", MaxBytes), "", 0, "larger"},
	} {
		_, err := Parse([]byte(row.text))
		var wrong *Error
		if !errors.As(err, &wrong) || wrong.Place != row.place || wrong.Line != row.line ||
			!strings.Contains(wrong.Message, row.words) {
			t.Errorf("%s: %v (%+v), want %q in line %d: %s", row.name, err, wrong, row.place, row.line, row.words)
		}
	}
}

func TestTemplates(t *testing.T) {
	t.Parallel()
	for _, row := range []struct {
		text, want string
		variables  []string
	}{
		{"{title}", "<title>", []string{"title"}}, {"a {title} b {until}", "a <title> b <until>",
			[]string{"title", "until"}},
		{"mutation { add(title: $t) { id } }", "mutation { add(title: $t) { id } }", nil},
		{"{", "{", nil}, {"{}", "{}", nil}, {"{A}{b}", "{A}<b>", []string{"b"}}, {"{a{b}", "{a<b>", []string{"b"}},
	} {
		if got := Fill(row.text, func(name string) string { return "<" + name + ">" }); got != row.want {
			t.Errorf("%q: %q, want %q", row.text, got, row.want)
		}
		if got := Variables(row.text); !slices.Equal(got, row.variables) {
			t.Errorf("%q: %v, want %v", row.text, got, row.variables)
		}
	}
	if _, whole := Whole("{a} "); whole {
		t.Error("a text with more than a variable is not all variable")
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(minimal))
	f.Fuzz(func(t *testing.T, text []byte) {
		d, err := Parse(text)
		if err != nil {
			var wrong *Error
			if !errors.As(err, &wrong) {
				t.Fatalf("%q: %T", text, err)
			}
			return
		}
		if strings.ContainsAny(d.Name+d.SSH.Host+d.SSH.User, "\n\r /\\\"") || d.SSH.Host[0] == '-' {
			t.Fatalf("%q lets %+v through", text, d)
		}
		d.Account("hello")
		d.Meaning("no")
	})
}

// TestIsClone holds clone URLs that an interface tells against the host that was meant.
func TestIsClone(t *testing.T) {
	t.Parallel()
	d, err := Parse([]byte(minimal + "port = 2222\n[https]\nurl = \"https://forge.tidewater.example:8443/\"\n"))
	if err != nil {
		t.Fatal(err)
	}
	for _, row := range []struct {
		url, transport string
		want           bool
	}{
		{"git@forge.tidewater.example:a/b.git", "ssh", true},
		{"ssh://git@FORGE.tidewater.example:2222/a/b.git", "ssh", true},
		{"https://forge.tidewater.example:8443/a/b.git", "https", true},
		{"git@evil.example:a/b.git", "ssh", false}, {"ssh://git@forge.tidewater.example:22/a/b.git", "ssh", false},
		{"git@forge.tidewater.example.evil.example:a", "ssh", false},
		{"http://forge.tidewater.example:8443/a/b.git", "https", false},
		{"https://forge.tidewater.example/a/b.git", "https", false},
		{"https://evil.example:8443/a.git", "https", false},
		{"https://x:y@forge.tidewater.example:8443/a/b.git", "https", false},
		{"https://forge.tidewater.example:8443/a.git", "ssh", false}, {"ext::sh -c x", "ssh", false},
		{"", "https", false},
	} {
		if got := d.IsClone(row.url, row.transport); got != row.want {
			t.Errorf("%s by %s: %v", row.url, row.transport, got)
		}
	}
}

// TestLookupsAreLookedAtOnce has thirty lookups that each need two others: a walk along every way would
// take for ever.
func TestLookupsAreLookedAtOnce(t *testing.T) {
	t.Parallel()
	text := inter
	for i := range 30 {
		path := "x"
		if i > 1 {
			path = fmt.Sprintf("{l%d}/{l%d}", i-1, i-2)
		}
		text += fmt.Sprintf("[lookups.l%d]\npath = %q\nvalue = \"$\"\n", i, path)
	}
	if _, err := Parse([]byte(text)); err != nil {
		t.Error(err)
	}
	if _, err := Parse([]byte(inter + "[lookups.a]\npath = \"x\"\nvalue = \"$..a..b\"\n")); err == nil {
		t.Error("a place that multiplies")
	}
}

// TestTheReferenceIsRight reads the examples of the reference as a person would copy them.
func TestTheReferenceIsRight(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("../../docs/describe-a-host.md")
	if err != nil {
		t.Fatal(err)
	}
	whole := 0
	for _, part := range strings.Split(string(text), "```toml\n")[1:] {
		block, _, _ := strings.Cut(part, "```")
		switch {
		case strings.HasPrefix(block, "unicrux = 1"):
			whole++
		case strings.HasPrefix(block, "["):
			block = inter + block
			if strings.Contains(block, "[lookups") {
				block += "items = \"$\"\n"
			}
		default: // a few words of an operation
			block = inter + "[operations.list-keys]\n" + block
			if !strings.Contains(block, "path =") {
				block += "path = \"x\"\n"
			}
			if !strings.Contains(block, "fields =") {
				block += "fields = { id = \"$.id\", line = \"$.l\" }\n"
			}
			block = strings.Replace(block, ", scopes = \"header Tide-Scopes\"", "", 1)
		}
		if _, err := Parse([]byte(block)); err != nil {
			t.Errorf("%v\n%s", err, block)
		}
	}
	if whole != 2 {
		t.Errorf("%d whole examples", whole)
	}
}
