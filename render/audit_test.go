package render

import (
	"crypto/ed25519"
	"fmt"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/pelletier/go-toml/v2"
	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/apply"
	"anchorage.example/unicrux/core/audit"
	"anchorage.example/unicrux/core/declared"
	"anchorage.example/unicrux/core/policy"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/workstation"
)

var auditDay = time.Date(2026, 12, 2, 6, 30, 0, 0, time.UTC)

// auditPeople are those of the made-up machine: each has as many keys and tokens as her number says.
var auditPeople = []string{"ines", "lab", "imarlow", "jonah", "mira", "oskar", "petra", "quentin", "rosa", "sven",
	"tilda",
	"ulf", "vera", "wim", "yara", "zoe"}

// publicKey is some key, the same each time.
func publicKey(t testing.TB, n int) ssh.PublicKey {
	t.Helper()
	seed := make([]byte, ed25519.SeedSize)
	seed[0] = byte(n)
	key, err := ssh.NewPublicKey(ed25519.NewKeyFromSeed(seed).Public())
	if err != nil {
		t.Fatal(err)
	}
	return key
}

// sampleReport is of a machine with a few people, something of everything, and a home that was not read.
func sampleReport(t testing.TB) *audit.Report {
	t.Helper()
	until := func(day string) toml.LocalDate {
		var d toml.LocalDate
		if err := d.UnmarshalText([]byte(day)); err != nil {
			t.Fatal(err)
		}
		return d
	}
	exception := policy.Exception{Rule: policy.KeyNoPassphrase, Person: "jonah", Until: until("2027-03-31"),
		Why: "unattended buoy upload; it may only read"}
	r := &audit.Report{Machine: "driftwood", ID: "5b1f0c", When: auditDay, Took: 40 * time.Millisecond, Complete: false,
		Own: true, Applied: declared.Kept{Hash: strings.Repeat("ab", 32), Fleet: "tidewater", Version: "7"},
		Policy: policy.Policy{File: "/etc/unicrux/policy.toml", Name: "tidewater", Version: "2026-11-28",
			Rules: map[string]policy.Rule{policy.KeyOld: {Level: policy.Should, Days: 730},
				policy.KeyNoPassphrase: {Level: policy.Must}}, Except: []policy.Exception{exception}}}
	find := func(code string, level policy.Level, person, thing, file string, line int, also string) {
		f := audit.Finding{ID: fmt.Sprint(len(r.Findings)), Code: code, Level: level, Person: person, Thing: thing,
			Origin: file, Line: line, Also: also, Since: auditDay.AddDate(0, 0, -len(person)*5)}
		if code == exception.Rule && person == exception.Person {
			f.Except = &exception
		}
		r.Findings = append(r.Findings, f)
	}
	hosts := []string{"forge", "saltmarsh", "lantern"}
	for i, person := range auditPeople {
		home := audit.Home{Person: person, UID: 1000 + i, Path: "/home/" + person, State: audit.Read, Stored: 3 + i}
		for n := range i%3 + 1 {
			key := publicKey(t, i*3+n)
			k := audit.Key{Path: "~/.ssh/" + hosts[n] + "_ed25519", Fingerprint: sshkey.Fingerprint(key),
				Line: sshkey.Line(key, ""), Kind: "ed25519", Bits: 256, Locked: (i+n)%3 != 0,
				Made: auditDay.AddDate(0, -(i*7+n*11)%40, 0), KnownAt: hosts[:n+1]}
			if i%5 == 4 {
				k.Kind, k.Bits, k.Path = "rsa", 2048+i%2*1024, "~/.ssh/id_rsa"
			}
			if !k.Locked {
				find(policy.KeyNoPassphrase, policy.Must, person, k.Fingerprint, k.Path, 0, "")
			}
			if age := int(auditDay.Sub(k.Made).Hours() / 24); age > 730 {
				find(policy.KeyOld, policy.Should, person, k.Fingerprint, k.Path, 0, fmt.Sprintf("%d days", age))
			}
			home.Keys = append(home.Keys, k)
		}
		if i%4 != 3 {
			home.Tokens = append(home.Tokens, audit.Token{Name: hosts[i%3], At: hosts[i%3] + ".example",
				Host:  hosts[i%3],
				Place: "sealed", Until: auditDay.AddDate(0, 0, i*13-20), Purposes: []string{"clone", "push"}})
		}
		r.Homes = append(r.Homes, home)
	}
	r.Homes[2].Certificates = []audit.Certificate{{Path: "~/.ssh/forge_ed25519-cert.pub",
		Fingerprint: r.Homes[2].Keys[0].Fingerprint, Until: auditDay.AddDate(0, 0, 30)}}
	r.Homes[7].State, r.Homes[7].Why = audit.Unread, "it took longer than 30s"
	find(policy.SecretInURL, policy.Must, "mira", "remote.origin.url", "~/buoys/.git/config", 9, "")
	find(policy.TLSUnchecked, policy.Must, "oskar", "http.sslverify", "~/.gitconfig", 4, "")
	find(policy.HomeUnread, policy.Should, "quentin", "", "/home/quentin", 0, "it took longer than 30s")
	find(policy.StateOverruled, policy.Should, "", "forge.tidewater.example port",
		"/etc/ssh/ssh_config.d/10-site.conf", 2,
		"/etc/ssh/ssh_config.d/50-unicrux.conf")
	find(policy.KeyOddPlace, policy.Tell, "ines", "<script>alert(1)</script>", `~/Downloads/"temp"&co/key`, 0, "")
	order := []policy.Level{policy.Must, policy.Should, policy.Tell}
	slices.SortStableFunc(r.Findings, func(a, b audit.Finding) int {
		if a.Level != b.Level {
			return slices.Index(order, a.Level) - slices.Index(order, b.Level)
		}
		return strings.Compare(a.Code, b.Code)
	})
	return r
}

func sampleDrift(r *audit.Report) *audit.Drift {
	gone := audit.Finding{ID: "g", Code: policy.HelperPlain, Level: policy.Must, Person: "vera"}
	return &audit.Drift{When: auditDay.AddDate(0, 0, -7), New: r.Findings[:3], Still: r.Findings[3:],
		Gone: []audit.Finding{gone, gone}}
}

func TestAuditOutputs(t *testing.T) {
	t.Parallel()
	r := sampleReport(t)
	golden(t, "audit.txt", Audit(Style{Width: 100}, r, sampleDrift(r)))
	golden(t, "audit.prom", AuditMetrics(r))
	golden(t, "audit.html", AuditPage(r, sampleDrift(r)))
	empty := &audit.Report{Machine: "driftwood", When: auditDay, Complete: true}
	if page := AuditPage(empty, nil); !strings.Contains(page, "no home") && !strings.Contains(page, "No home") {
		t.Errorf("without homes: %s", page)
	}
}

// TestPageIsAlone: the page asks for nothing and runs nothing, and what stands in homes is text on it.
func TestPageIsAlone(t *testing.T) {
	t.Parallel()
	r := sampleReport(t)
	page := AuditPage(r, sampleDrift(r))
	for _, never := range []string{"<script", "http://", "https://", "url(", "@import", "<link", "<img", "<iframe",
		"onload",
		`"temp"`} {
		if strings.Contains(page, never) {
			t.Errorf("the page has %q", never)
		}
	}
	if !strings.Contains(page, "&lt;script&gt;alert(1)&lt;/script&gt;") || !strings.Contains(page,
		"default-src 'none'") {
		t.Error("what stands in a home is not text, or the page may ask for something")
	}
	for _, tag := range []string{"table", "section", "svg", "div", "tr", "td", "th", "main", "span", "code"} {
		if opened, closed := len(regexp.MustCompile("<"+tag+"[ >]").FindAllString(page, -1)), strings.Count(page,
			"</"+tag+">"); opened != closed {
			t.Errorf("%s: %d opened, %d closed", tag, opened, closed)
		}
	}
	many := sampleReport(t)
	for i := range 20_000 {
		many.Homes = append(many.Homes, audit.Home{Person: fmt.Sprint("p", i), UID: 2000 + i, State: audit.Read})
		many.Findings = append(many.Findings, audit.Finding{ID: fmt.Sprint("f", i), Code: policy.KeyOld,
			Level:  policy.Should,
			Person: fmt.Sprint("p", i), Thing: "SHA256:x", Origin: "~/.ssh/id"})
	}
	if size := len(AuditPage(many, nil)); size > 2<<20 {
		t.Errorf("20,000 homes come to %d bytes", size)
	}
}

// TestPageContrast: every colour of words can be read on its paper (WCAG 2.2, 1.4.3: at least 4.5), in the light, in
// the dark and in print.
func TestPageContrast(t *testing.T) {
	t.Parallel()
	blocks := regexp.MustCompile(`:root \{([^}]*)\}`).FindAllStringSubmatch(pageStyle, -1)
	if len(blocks) != 3 {
		t.Fatalf("%d sets of colours", len(blocks))
	}
	for i, block := range blocks {
		colours := map[string]string{}
		for _, c := range regexp.MustCompile(`--(\w+): (#[0-9a-f]{6});`).FindAllStringSubmatch(block[1], -1) {
			colours[c[1]] = c[2]
		}
		for _, name := range []string{"ink", "quiet", "rose", "ochre", "teal"} {
			if ratio := contrast(t, colours[name], colours["paper"]); ratio < 4.5 {
				t.Errorf("set %d: %s has %.2f", i, name, ratio)
			}
		}
	}
}

// contrast is that of WCAG 2.2, "contrast ratio".
func contrast(t *testing.T, a, b string) float64 {
	t.Helper()
	luminance := func(colour string) float64 {
		if len(colour) != 7 {
			t.Fatalf("no colour: %q", colour)
		}
		var parts [3]float64
		for i := range parts {
			n, err := strconv.ParseUint(colour[1+2*i:3+2*i], 16, 8)
			if err != nil {
				t.Fatal(err)
			}
			if parts[i] = float64(n) / 255; parts[i] <= 0.04045 {
				parts[i] /= 12.92
			} else {
				parts[i] = math.Pow((parts[i]+0.055)/1.055, 2.4)
			}
		}
		return 0.2126*parts[0] + 0.7152*parts[1] + 0.0722*parts[2]
	}
	light, dark := luminance(a), luminance(b)
	return (max(light, dark) + 0.05) / (min(light, dark) + 0.05)
}

// TestApplyOutputs: what was changed, what does not count and why, and what was left.
func TestApplyOutputs(t *testing.T) {
	t.Parallel()
	state := &declared.State{Fleet: "tidewater", Version: "2026-12-02", Text: []byte("unicrux = 1\n")}
	things := []apply.Thing{{Part: apply.Host, Name: "forge", Path: "/etc/unicrux/hosts/forge.toml",
		Status: apply.Changed},
		{Part: apply.Host, Name: "forge.tidewater.example port", Path: "/etc/ssh/ssh_config.d/50-unicrux.conf",
			Status: apply.Overruled, Why: "/etc/ssh/ssh_config.d/10-site.conf", Line: 2},
		{Part: apply.Policy, Path: "/etc/unicrux/policy.toml", Status: apply.Left},
		{Part: apply.Git, Path: "/etc/gitconfig", Status: apply.OK}}
	homes := []apply.HomeResult{{HomeDone: apply.HomeDone{Done: []string{"Forget host keys that the administrator distrusts."},
		Change: 4}}, {Why: "permission denied"}}
	homes[0].Home.Person, homes[0].Home.Path = "ines", "/home/ines"
	homes[1].Home.Person, homes[1].Home.Path = "mira", "/home/mira"
	done := Applied{State: state, Result: apply.Result{Things: things, Diffs: []apply.Diff{{Path: "/etc/gitconfig",
		Before: []byte("a\n"), After: []byte("b\n")}}}, Homes: homes, Change: 3, Sudo: true}
	golden(t, "apply.txt", Apply(Style{Width: 100}, done))
	golden(t, "apply.json", JSON(ApplyDocument(done)))
	for i := range things {
		if things[i].Status == apply.Changed {
			things[i].Status = apply.WouldChange
		}
	}
	long := []byte(strings.Repeat("a line\n", 40))
	dry := Applied{State: state, Result: apply.Result{Things: things[:1]}, Dry: true,
		Differences: []workstation.Difference{
			{Summary: "Describe forge for everybody.", Path: things[0].Path, After: long},
			{Summary: "Settle which keys of hosts are trusted by everybody.", Path: "/etc/ssh/ssh_known_hosts",
				Before: []byte("old\n"), After: []byte("old\nnew\n")}}}
	golden(t, "apply-dry.txt", Apply(Style{Width: 100}, dry))
	nothing := Applied{State: state, Result: apply.Result{Things: things[3:]}}
	if got := Apply(Style{}, nothing); got !=
		"  This machine is as the state tidewater 2026-12-02 declares. Nothing was changed.\n" {
		t.Errorf("nothing: %q", got)
	}
}
