package acceptance

import (
	"crypto/sha1"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"runtime"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"
	"golang.org/x/net/dns/dnsmessage"
	"golang.org/x/sys/unix"

	"anchorage.example/unicrux/agreement"
)

// A zone is what the name server of a test knows.
type zone struct {
	aliases      map[string]string   // CNAME records
	addresses    map[string]bool     // names at 127.0.0.1
	fingerprints map[string][][]byte // data of SSHFP records
}

// withNames moves the test into a network and a file system of its own, in which a name server answers from a zone and
// resolv.conf has some options. Whatever it starts from then on is in there as well, and nothing gets out.
func withNames(t *testing.T, z *zone) (options func(text string)) {
	t.Helper()
	runtime.LockOSThread() // and never unlocked, so the thread ends with the test
	if err := unix.Unshare(unix.CLONE_NEWNET | unix.CLONE_NEWNS); err != nil {
		if errors.Is(err, unix.EPERM) && os.Getenv("CI") == "" {
			t.Skip("only root may make a network of its own")
		}
		t.Fatal(err)
	}
	file := t.TempDir() + "/resolv.conf"
	options = func(text string) {
		if err := os.WriteFile(file, []byte("nameserver 127.0.0.1\noptions "+text+"\n"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	options("edns0")
	for _, err := range []error{unix.Mount("", "/", "", unix.MS_REC|unix.MS_PRIVATE, ""),
		unix.Mount(file, "/etc/resolv.conf", "", unix.MS_BIND, ""), loopback()} {
		if err != nil {
			t.Fatal(err)
		}
	}
	conn, err := net.ListenPacket("udp", "127.0.0.1:53")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = conn.Close() })
	go func() {
		buffer := make([]byte, 4096)
		for {
			n, from, err := conn.ReadFrom(buffer)
			if err != nil {
				return
			}
			var m dnsmessage.Message
			if m.Unpack(buffer[:n]) == nil {
				if text, err := z.answer(m); err == nil {
					_, _ = conn.WriteTo(text, from)
				}
			}
		}
	}()
	return options
}

// loopback switches the loopback interface on, which a new network has switched off.
func loopback() error {
	fd, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM, 0)
	if err != nil {
		return err
	}
	defer unix.Close(fd) // nothing was written
	request, err := unix.NewIfreq("lo")
	if err != nil {
		return err
	}
	request.SetUint16(unix.IFF_UP | unix.IFF_RUNNING)
	return unix.IoctlIfreq(fd, unix.SIOCSIFFLAGS, request)
}

func (z *zone) answer(m dnsmessage.Message) ([]byte, error) {
	question := m.Questions[0]
	name := strings.TrimSuffix(question.Name.String(), ".")
	reply := dnsmessage.Message{Header: dnsmessage.Header{ID: m.ID, Response: true, RecursionDesired: true,
		RecursionAvailable: true, AuthenticData: true}, Questions: m.Questions}
	add := func(name string, kind dnsmessage.Type, body dnsmessage.ResourceBody) {
		reply.Answers = append(reply.Answers,
			dnsmessage.Resource{Header: dnsmessage.ResourceHeader{Name: dnsmessage.MustNewName(name + "."), Type: kind,
				Class: dnsmessage.ClassINET}, Body: body})
	}
	if alias, found := z.aliases[name]; found {
		add(name, dnsmessage.TypeCNAME, &dnsmessage.CNAMEResource{CNAME: dnsmessage.MustNewName(alias + ".")})
		name = alias
	}
	switch {
	case !z.addresses[name]:
		reply.RCode = dnsmessage.RCodeNameError
	case question.Type == dnsmessage.TypeA:
		add(name, dnsmessage.TypeA, &dnsmessage.AResource{A: [4]byte{127, 0, 0, 1}})
	case question.Type == 44:
		for _, data := range z.fingerprints[name] {
			add(name, 44, &dnsmessage.UnknownResource{Type: 44, Data: data})
		}
	}
	return reply.Pack()
}

// TestNamesVouch: what the name servers say of a host's key counts for us as it does for ssh.
func TestNamesVouch(t *testing.T) {
	t.Parallel()
	z := &zone{addresses: map[string]bool{"quay.tidewater.example": true}, fingerprints: map[string][][]byte{}}
	options := withNames(t, z)
	p := newPerson(t)
	p.must("key", "new", "mine", "--no-passphrase")
	p.must("key", "new", "other", "--no-passphrase")
	port, line := p.sshd(p.must("key", "show", "mine", "--line").out)
	other := p.must("key", "show", "other", "--line").out
	records := map[string][][]byte{"none": nil, "right": {sshfp(t, line, 2)}, "SHA-1": {sshfp(t, line, 1)},
		"other": {sshfp(t, other, 2)}, "both": {sshfp(t, line, 2), sshfp(t, other, 2)}}
	name := fmt.Sprintf("[quay.tidewater.example]:%d ", port)
	tally := agreement.Of(t, "ssh: whether the name servers vouch for a host")
	for _, resolver := range []string{"edns0 trust-ad", "edns0"} {
		options(resolver)
		for record, data := range records {
			z.fingerprints["quay.tidewater.example"] = data
			for _, setting := range []string{"yes", "ask", "no"} {
				for _, stored := range []string{"", name + line, name + other} {
					p.write(stored, ".ssh", "known_hosts")
					p.write("VerifyHostKeyDNS "+setting+"\nUserKnownHostsFile "+p.path(".ssh",
						"known_hosts")+"\nGlobalKnownHostsFile none\nIdentityFile "+p.path(".ssh", "mine")+"\n",
						".ssh", "config")
					ours := p.check(fmt.Sprintf("ssh://root@quay.tidewater.example:%d/nothing.git", port))
					theirs := p.run("", "ssh", "-F", p.path(".ssh", "config"), "-o", "BatchMode=yes", "-p",
						fmt.Sprint(port), "root@quay.tidewater.example", "true")
					got, want := ourTrust(ours), theirTrust(theirs)
					// an alarm before it goes on, and refuses or not
					if strings.Contains(theirs.err, "Update the SSHFP RR") {
						want = map[bool]string{true: "trusted", false: got}[theirs.exit == 0]
					}
					tally.Case(got == want, "%s, records: %s, VerifyHostKeyDNS %s, stored %q: we say %s, ssh %s\n%s",
						resolver, record, setting, stored, got, want, theirs.err)
				}
			}
		}
	}
}

// sshfp is the data of an SSHFP record (RFC 4255) for a key that is no RSA and no ECDSA key.
func sshfp(t *testing.T, line string, digest byte) []byte {
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(line))
	if err != nil {
		t.Fatal(err)
	}
	short, long := sha1.Sum(key.Marshal()), sha256.Sum256(key.Marshal())
	return append([]byte{4, digest}, map[byte][]byte{1: short[:], 2: long[:]}[digest]...)
}

// TestNamesAgree: generated settings of canonicalisation lead us to the host to which they lead ssh.
func TestNamesAgree(t *testing.T) {
	t.Parallel()
	z := &zone{addresses: map[string]bool{"quay.tidewater.example": true, "buoy.lab.tidewater.example": true,
		"forge.tidewater.example": true, "a.b.tidewater.example": true, "store.elsewhere.example": true},
		aliases: map[string]string{"pier.tidewater.example": "quay.tidewater.example",
			"mole.tidewater.example": "store.elsewhere.example", "gone.tidewater.example": "nowhere.tidewater.example"}}
	_ = withNames(t, z)
	p := newPerson(t)
	random := rand.New(rand.NewPCG(11, 7))
	pick := func(list ...string) string { return list[random.IntN(len(list))] }
	tally := agreement.Of(t, "ssh: canonical names, with a name server")
	for range agreement.Rounds(60) {
		settings := strings.Join([]string{
			"CanonicalizeHostname " + pick("yes", "yes", "always", "no", "true"),
			"CanonicalDomains " + pick("tidewater.example", "lab.tidewater.example tidewater.example", "none",
				"elsewhere.example", "tidewater.example elsewhere.example"),
			pick("", "CanonicalizeMaxDots 0", "CanonicalizeMaxDots 2"),
			pick("", "", "CanonicalizePermittedCNAMEs *.tidewater.example:*.tidewater.example",
				"CanonicalizePermittedCNAMEs *:*", "CanonicalizePermittedCNAMEs mole.*:*.elsewhere.example,*.x",
				"CanonicalizePermittedCNAMEs none"),
			pick("", "", "Host quay\n  HostName forge", "Match canonical\n  User second",
				"Match host *.tidewater.example\n  Port 2222", "Match final\n  Port 2244"),
			pick("", "", "ProxyCommand /bin/false", "ProxyJump forge"),
		}, "\n") + "\n"
		p.write(settings, ".ssh", "config")
		host := pick("quay", "buoy", "pier", "mole", "gone", "nowhere", "a.b", "quay.tidewater.example",
			"pier.tidewater.example", "quay.", "127.0.0.1", "store")
		theirs := p.run("", "ssh", "-G", "-F", p.path(".ssh", "config"), host)
		ours := p.run("", program, "host", "show", host, "--settings", "--json", "--ssh-config",
			p.path(".ssh", "config"))
		got, want := resolved(t, ours.out), map[string]string{}
		for line := range strings.Lines(theirs.out) {
			name, value, _ := strings.Cut(strings.TrimSpace(line), " ")
			want[name] = value
		}
		if strings.Contains(theirs.err, "Could not resolve") { // it ends there, and says nothing of its settings
			continue
		}
		if theirs.exit != 0 {
			tally.Case(strings.Contains(ours.out, "jump host is the host itself"),
				"%s with\n%s: ssh %s, and we say nothing of it", host, settings, theirs.err)
			continue
		}
		same := theirs.exit == ours.exit
		for _, name := range []string{"hostname", "user", "port"} {
			same = same && got[name] == want[name]
		}
		tally.Case(same, "%s with\n%s: we say %s %s %s (%s), ssh %s %s %s (%s)", host, settings, got["hostname"],
			got["user"], got["port"], ours.err, want["hostname"], want["user"], want["port"], theirs.err)
	}
}

// resolved are the values of ssh's settings in a document of host show --settings.
func resolved(t *testing.T, text string) map[string]string {
	var document struct {
		SSH []struct{ Name, Value string }
	}
	if err := json.Unmarshal([]byte(text), &document); err != nil {
		t.Errorf("%v: %s", err, text)
	}
	values := map[string]string{}
	for _, setting := range document.SSH {
		values[setting.Name] = setting.Value
	}
	return values
}
