package hosts_test

import (
	"errors"
	"path/filepath"
	"strings"
	"testing"

	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/fixture"
)

// TestSet writes each setting for ssh, for git or for both, takes it back, and refuses what the real programs would
// read as something else.
func TestSet(t *testing.T) {
	t.Parallel()
	s := fixture.At(t, "forge")
	s.Key("mine", "")
	s.Write(string(s.Host.Authority()), "ca.pem")
	s.Write("x", `ke"y`)
	set := func(pairs ...string) error {
		t.Helper()
		return hosts.Set(t.Context(), s.Batch(), s.Station, s.Registry, "/usr/bin/unicrux", "forge", pairs)
	}
	both := func() string { return s.Read(".ssh", "unicrux.conf") + s.Read(".config", "unicrux", "git.config") }
	for pair, want := range map[string]string{
		"user=lab": "User lab", "port=2222": "Port 2222", "port=alternative": "Port ",
		"address=192.0.2.7": "HostName 192.0.2.7", "keep-alive=30": "ServerAliveInterval 30",
		"key=mine":                          "IdentityFile ~/.ssh/mine",
		"via=ines@mole.example:2200,quay":   "ProxyJump ines@mole.example:2200,quay",
		"proxy=socks5://proxy.example:1080": "socks5h://proxy.example:1080", "authority=~/ca.pem": "sslCAInfo",
		"by=https": "insteadOf", "author-name=Ines Marlow": "name = Ines Marlow",
		"author-email=ines@tidewater.example": "email = ines@tidewater.example", "in-place=on": "for-git ssh",
	} {
		if err := set(pair); err != nil {
			t.Errorf("%s: %v", pair, err)
			continue
		}
		name, _, _ := strings.Cut(pair, "=")
		files := both() + s.Read(".config", "unicrux", "git", "forge.tidewater.example.config")
		if !strings.Contains(files, want) {
			t.Errorf("%s: no %q in\n%s", pair, want, files)
		}
		if err := set(name + "="); err != nil {
			t.Errorf("%s taken back: %v", name, err)
		}
	}
	for _, pair := range []string{"user=-x", "port=0", "port=x", "address=a b", "keep-alive=0", "key=gone", "via=a b",
		"via=quay:0", "proxy=https://x:1", "proxy=http://ines:word@x:1", "authority=gone.pem", "by=ftp",
		"nonsense=1", "port",
		"in-place=perhaps", "author-name=a\nb", `key=~/ke"y`} {
		before := both()
		if err := set(pair); !errors.Is(err, hosts.ErrSetting) || both() != before {
			t.Errorf("%q: %v", pair, err)
		}
		if err := set(pair); err != nil && strings.Contains(err.Error(), "word") && strings.Contains(pair, "word") {
			t.Errorf("a secret in the error: %v", err)
		}
	}
	if err := set("via=quay", "proxy=http://x:1"); !errors.Is(err, hosts.ErrSetting) {
		t.Errorf("both ways at once: %v", err)
	}
}

// TestChosen: which of several things a lookup means is kept for the host, and can be taken back.
func TestChosen(t *testing.T) {
	t.Parallel()
	s := fixture.At(t, "forge")
	path := s.Write(`unicrux = 1
name = "reef"
[ssh]
host = "reef.tidewater.example"
user = "git"
[interface]
url = "https://reef.tidewater.example/"
[lookups.space]
path = "spaces"
value = "$.id"
ask = "$.title"
[lookups.one]
path = "one"
value = "$.id"
`, "reef.toml")
	source, err := hosts.Get(t.Context(), s.Station, path)
	if err == nil {
		err = hosts.Add(s.Batch(), s.Station, source)
	}
	if err != nil {
		t.Fatal(err)
	}
	for _, row := range []struct {
		pairs []string
		want  string // what is chosen afterwards
		fails bool
	}{
		{[]string{"chosen.space=Tide \"desk\""}, `Tide "desk"`, false},
		{[]string{"chosen.one=x"}, `Tide "desk"`, true},
		{[]string{"chosen.nothing=x"}, `Tide "desk"`, true},
		{[]string{"chosen.space=Buoys", "port=x"}, `Tide "desk"`, true},
		{[]string{"chosen.space=Buoys", "port=22"}, "Buoys", false},
		{[]string{"chosen.space="}, "", false},
	} {
		registry, err := hosts.Open(s.Station)
		if err != nil {
			t.Fatal(err)
		}
		err = hosts.Set(t.Context(), s.Batch(), s.Station, registry, "/usr/bin/unicrux", "reef", row.pairs)
		again, openErr := hosts.Open(s.Station)
		if openErr != nil {
			t.Fatal(openErr)
		}
		d, _ := again.Find("reef")
		if errors.Is(err, hosts.ErrSetting) != row.fails || d.Chosen["space"] != row.want {
			t.Errorf("%q: %v, chosen %q", row.pairs, err, d.Chosen)
		}
	}
}

// TestFind: a host is found by each of its names, and no other host by any of them.
func TestFind(t *testing.T) {
	t.Parallel()
	s := fixture.At(t, "forge")
	web := s.Description.HTTPSAt()
	for name, found := range map[string]bool{
		"forge": true, "forge.tidewater.example": true, "FORGE.tidewater.example": true, "git@forge": true,
		"git@forge.tidewater.example": true, "git@forge.tidewater.example:buoys/x.git": true,
		"ssh://git@forge.tidewater.example/buoys/x.git": true, "ssh://git@forge.tidewater.example": true,
		"https://" + web + "/buoys/x": true, "https://" + web: true,
		"https://forge.tidewater.example:1/x": false, "ines@forge": false, "lantern": false, "": false,
		"git@lantern": false, "ssh://": false, "https://forge.tidewater.example.evil.example/x": false,
	} {
		if d, err := s.Registry.Find(name); (err == nil) != found || found && d.Name != "forge" {
			t.Errorf("%q: %v", name, err)
		}
	}
}

// TestAccounts: a second account has a name of its own for ssh, and git uses it below a folder.
func TestAccounts(t *testing.T) {
	t.Parallel()
	s := fixture.At(t, "forge")
	lab := filepath.Dir(s.Write("", "lab", "notes"))
	for _, text := range []string{"forge", "@forge", "la b@forge"} {
		if _, err := hosts.AddAccount(t.Context(), s.Batch(), s.Station, s.Registry,
			hosts.NewAccount{Text: text, Folder: lab}); !errors.Is(err, hosts.ErrAccount) {
			t.Errorf("%q: %v", text, err)
		}
	}
	if _, err := hosts.AddAccount(t.Context(), s.Batch(), s.Station, s.Registry,
		hosts.NewAccount{Text: "lab@forge"}); !errors.Is(err, hosts.ErrFolder) {
		t.Errorf("without a folder: %v", err)
	}
	as, err := hosts.AddAccount(t.Context(), s.Batch(), s.Station, s.Registry,
		hosts.NewAccount{Text: "lab@forge", Folder: lab, Author: "Buoy laboratory", Email: "lab@tidewater.example"})
	if err != nil || as.Name != "lab@forge" || as.SSH.Host != "lab--forge.tidewater.example" {
		t.Fatalf("%+v, %v", as, err)
	}
	s.Reload()
	if d, err := s.Registry.Find("lab@forge"); err != nil || d.ForAccount != "lab" {
		t.Errorf("%+v, %v", d, err)
	}
	if d := s.Registry.ForHost("LAB--forge.tidewater.example"); d == nil || d.ForAccount != "lab" {
		t.Errorf("by its name for ssh: %+v", d)
	}
	repo := filepath.Join(lab, "work")
	s.Git(s.Station.Home, "init", "--quiet", repo)
	if got := strings.TrimSpace(s.Git(repo, "config", "user.name")); got != "Buoy laboratory" {
		t.Errorf("the author there: %q", got)
	}
	s.Git(repo, "remote", "add", "origin", "git@forge.tidewater.example:x.git")
	if got := strings.TrimSpace(s.Git(repo, "remote", "get-url",
		"origin")); got != "git@lab--forge.tidewater.example:x.git" {
		t.Errorf("the URL there: %s", got)
	}
	forge, err := s.Registry.Find("forge")
	if err != nil {
		t.Fatal(err)
	}
	if list, err := s.Registry.Accounts(s.Station, forge); err != nil || len(list) == 0 {
		t.Errorf("%+v, %v", list, err)
	}
	if err := hosts.DropAccount(t.Context(), s.Batch(), s.Station, s.Registry, "lab@forge"); err != nil {
		t.Fatal(err)
	}
	s.Reload()
	if _, err := s.Registry.Find("lab@forge"); err == nil {
		t.Error("dropped, and known")
	}
	if got := strings.TrimSpace(s.Git(repo, "remote", "get-url",
		"origin")); got != "git@forge.tidewater.example:x.git" {
		t.Errorf("dropped, and the URL there: %s", got)
	}
}

// TestAddAndDrop leaves nothing of a host behind but what is the person's.
func TestAddAndDrop(t *testing.T) {
	t.Parallel()
	s := fixture.At(t, "forge")
	s.Write("# mine\n"+s.Read(".ssh", "config")+"\nHost elsewhere\n  Port 2222\n", ".ssh", "config")
	if err := hosts.SettleHTTPS(t.Context(), s.Batch(), s.Station, s.Description, "/usr/bin/unicrux"); err != nil {
		t.Fatal(err)
	}
	config, err := gitlink.ReadConfig(t.Context(), s.Station)
	if err != nil || !hosts.GitReads(config, s.Station) {
		t.Errorf("git does not read what is ours: %v", err)
	}
	source, err := hosts.Get(t.Context(), s.Station, s.Host.DescriptionFile())
	if err != nil || !strings.HasPrefix(source.Fingerprint(), "SHA256:") || source.FromWeb {
		t.Fatalf("%+v, %v", source, err)
	}
	if old, err := hosts.Replaces(s.Station, source); err != nil || old.Description == nil {
		t.Errorf("it takes the place of the one before: %+v, %v", old, err)
	}
	second := source
	copied := *source.Description
	copied.Name, second.Description = "forge-2", &copied
	var conflict *hosts.ConflictError
	if err := hosts.Add(s.Batch(), s.Station, second); !errors.As(err, &conflict) || conflict.Name != "forge" {
		t.Errorf("two descriptions of one host: %v", err)
	}
	if err := hosts.Drop(t.Context(), s.Batch(), s.Station, s.Registry, "forge"); err != nil {
		t.Fatal(err)
	}
	s.Reload()
	if _, err := s.Registry.Find("forge"); !errors.Is(err, hosts.ErrUnknown) {
		t.Errorf("%v", err)
	}
	if text := s.Read(".ssh", "unicrux.conf") + s.Read(".config", "unicrux", "git.config"); strings.Contains(text,
		"tidewater") {
		t.Errorf("left behind:\n%s", text)
	}
	if text := s.Read(".ssh", "config"); !strings.Contains(text, "# mine\n") ||
		!strings.Contains(text, "Host elsewhere") {
		t.Errorf("the person's own:\n%s", text)
	}
	if err := hosts.Drop(t.Context(), s.Batch(), s.Station, s.Registry, "no such host"); !errors.Is(err,
		hosts.ErrUnknown) {
		t.Errorf("%v", err)
	}
}

// TestUnreadable: a description that cannot be read is told, and keeps no other from being used.
func TestUnreadable(t *testing.T) {
	t.Parallel()
	s := fixture.At(t, "forge")
	s.Write("unicrux = 1\nname = [\n", ".config", "unicrux", "hosts", "broken.toml")
	s.Reload()
	if len(s.Registry.Problems) != 1 || len(s.Registry.Hosts) != 1 {
		t.Errorf("%+v", s.Registry)
	}
	if name, err := s.Registry.HostName("quay.tidewater.example."); err != nil || name != "quay.tidewater.example." {
		t.Errorf("%q, %v", name, err)
	}
	for web, want := range map[string]string{s.Description.HTTPSAt(): "127.0.0.1", "quay.tidewater.example": ""} {
		if got := s.Registry.WebPlace(web); got.Address != want {
			t.Errorf("%s: %+v", web, got)
		}
	}
	if place, err := hosts.NewPlaces(s.Station).Web(s.Description.HTTPSAt()); err != nil ||
		place.Address != "127.0.0.1" {
		t.Errorf("%+v, %v", place, err)
	}
}

// TestHelpers: git is told to ask us beside others, or alone.
func TestHelpers(t *testing.T) {
	t.Parallel()
	s := fixture.At(t, "forge")
	s.Git(s.Station.Home, "config", "--global", "credential.helper", "store")
	if err := hosts.SettleHelper(t.Context(), s.Batch(), s.Station, []string{"quay.tidewater.example"},
		"/usr/bin/unicrux"); err != nil {
		t.Fatal(err)
	}
	helpers := func() string {
		return s.Git(s.Station.Home, "config", "--get-urlmatch", "credential.helper",
			"https://quay.tidewater.example") + s.Git(s.Station.Home, "config", "--get-all",
			"credential.https://quay.tidewater.example.helper")
	}
	if got := helpers(); !strings.Contains(got, "/usr/bin/unicrux for-git credential") {
		t.Errorf("%s", got)
	}
	if err := hosts.AskAlone(t.Context(), s.Batch(), s.Station, []string{"quay.tidewater.example"},
		"/usr/bin/unicrux"); err != nil {
		t.Fatal(err)
	}
	if got := s.Git(s.Station.Home, "config", "--get-all",
		"credential.https://quay.tidewater.example.helper"); !strings.HasPrefix(got, "\n") {
		t.Errorf("others are asked before us: %q", got)
	}
	for program, want := range map[string]string{"/usr/bin/unicrux": "/usr/bin/unicrux for-git credential",
		"/home/o'brien/unicrux": `!'/home/o'\''brien/unicrux' for-git credential`} {
		if got := hosts.Helper(program); got != want || !hosts.IsHelper(got) {
			t.Errorf("%s: %s", program, got)
		}
	}
}
