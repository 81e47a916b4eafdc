package wire

import (
	"bufio"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"strings"
	"testing"
	"time"

	"anchorage.example/unicrux/fixture/damage"

	"golang.org/x/crypto/ssh"
)

func newSigner(t testing.TB) ssh.Signer {
	t.Helper()
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	signer, err := ssh.NewSignerFromKey(private)
	if err != nil {
		t.Fatal(err)
	}
	return signer
}

// serve lets talk answer each connection, and returns the port.
func serve(t *testing.T, talk func(net.Conn)) int {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = listener.Close() })
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				talk(conn)
			}()
		}
	}()
	return listener.Addr().(*net.TCPAddr).Port
}

// sshServer is a server with one account and one way to answer commands.
func sshServer(t *testing.T, key ssh.Signer, config *ssh.ServerConfig,
	answer func(channel ssh.Channel, command string)) int {
	t.Helper()
	config.AddHostKey(key)
	return serve(t, func(conn net.Conn) {
		_, channels, requests, err := ssh.NewServerConn(conn, config)
		if err != nil {
			return
		}
		go ssh.DiscardRequests(requests)
		for offered := range channels {
			channel, asked, err := offered.Accept()
			if err != nil {
				return
			}
			for request := range asked {
				_ = request.Reply(true, nil)
				var line struct{ Text string }
				_ = ssh.Unmarshal(request.Payload, &line)
				answer(channel, line.Text)
				_ = channel.Close()
			}
		}
	})
}

func takes(keys ...ssh.Signer) *ssh.ServerConfig {
	return &ssh.ServerConfig{PublicKeyCallback: func(_ ssh.ConnMetadata,
		offered ssh.PublicKey) (*ssh.Permissions, error) {
		for _, key := range keys {
			if string(key.PublicKey().Marshal()) == string(offered.Marshal()) {
				return nil, nil
			}
		}
		return nil, errors.New("unknown")
	}}
}

func offer(keys ...ssh.Signer) []Offer {
	var offers []Offer
	for _, key := range keys {
		offers = append(offers, Offer{Public: key.PublicKey(), Open: func() (ssh.Signer, error) { return key, nil }})
	}
	return offers
}

func plan(port int, offers ...Offer) Plan {
	return Plan{Host: "127.0.0.1", Port: port, User: "git", Offers: offers, Timeout: 2 * time.Second,
		Trust: func(ssh.PublicKey) error { return nil }}
}

func TestWhereTheWayEnds(t *testing.T) {
	host, mine, other := newSigner(t), newSigner(t), newSigner(t)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	closed := listener.Addr().(*net.TCPAddr).Port
	_ = listener.Close()
	silent := make(chan struct{})
	t.Cleanup(func() { close(silent) })
	answer := func(channel ssh.Channel, _ string) { _, _ = fmt.Fprint(channel, flushPacket) }
	twoSteps := takes(mine)
	twoSteps.PublicKeyCallback = func(ssh.ConnMetadata, ssh.PublicKey) (*ssh.Permissions, error) {
		return nil, &ssh.PartialSuccessError{Next: ssh.ServerAuthCallbacks{PasswordCallback: func(ssh.ConnMetadata,
			[]byte) (*ssh.Permissions, error) {
			return nil, errors.New("no")
		}}}
	}
	short := takes(mine)
	short.MaxAuthTries = 1
	password := &ssh.ServerConfig{PasswordCallback: func(ssh.ConnMetadata, []byte) (*ssh.Permissions,
		error) {
		return nil, errors.New("no")
	}}
	whole := sshServer(t, host, takes(mine), answer)
	old := takes(mine)
	old.KeyExchanges = []string{ssh.InsecureKeyExchangeDH1SHA1}

	for _, row := range []struct {
		name   string
		port   int
		offers []Offer
		at     Point
		reason error
	}{
		{"nothing listens", closed, nil, AtConnect, ErrRefused},
		{"a web server", serve(t, func(c net.Conn) { _, _ = fmt.Fprint(c, "HTTP/1.1 400 Bad Request\r\n\r\n") }), nil,
			AtSpeak, ErrNotSSH},
		{"hangs up at once", serve(t, func(net.Conn) {}), nil, AtSpeak, ErrHungUp},
		{"too many at once", serve(t, func(c net.Conn) { _, _ = fmt.Fprint(c, "Exceeded MaxStartups\r\n") }), nil,
			AtSpeak, ErrHungUp},
		{"silent", serve(t, func(net.Conn) { <-silent }), nil, AtSpeak, ErrSilent},
		{"only old algorithms", sshServer(t, host, old, answer), nil, AtSpeak, ErrAlgorithms},
		{"no key at all", sshServer(t, host, takes(mine), answer), nil, AtSignIn, ErrDenied},
		{"the wrong key", sshServer(t, host, takes(mine), answer), offer(other), AtSignIn, ErrDenied},
		{"cut off", sshServer(t, host, short, answer), offer(other, other, mine), AtSignIn, ErrHungUp},
		{"damaged", serve(t, func(near net.Conn) { damage.Line(near, whole) }), offer(mine), AtSignIn, ErrDamaged},
		{"passwords only", sshServer(t, host, password, answer), offer(mine), AtSignIn, ErrNoKeySignIn},
		{"a second step", sshServer(t, host, twoSteps, answer), offer(mine), AtSignIn, ErrMore},
	} {
		t.Run(row.name, func(t *testing.T) {
			p := plan(row.port, row.offers...)
			if row.reason == ErrSilent {
				p.Timeout = 50 * time.Millisecond
			}
			_, err := GoSSH(context.Background(), p)
			var failure *Failure
			if !errors.As(err, &failure) || failure.At != row.at || !errors.Is(err, row.reason) {
				t.Errorf("%v (%+v), want %v at %d", err, failure, row.reason, row.at)
			}
		})
	}
}

func TestOffersOneByOne(t *testing.T) {
	host, mine, other, locked := newSigner(t), newSigner(t), newSigner(t), newSigner(t)
	port := sshServer(t, host, takes(locked, mine), func(channel ssh.Channel, _ string) {
		_,
			_ = fmt.Fprint(channel, flushPacket)
	})
	opened := 0
	errLocked := errors.New("locked")
	offers := append(offer(other),
		Offer{Public: locked.PublicKey(), Open: func() (ssh.Signer, error) { return nil, errLocked }})
	offers = append(offers, Offer{Public: mine.PublicKey(),
		Open: func() (ssh.Signer, error) { opened++; return mine, nil }})
	p := plan(port, offers...)
	p.Service, p.Path = "git-upload-pack", "x"
	trip, err := GoSSH(context.Background(), p)
	if err != nil || !trip.Answer.Open || trip.With != 2 || opened != 1 {
		t.Fatalf("%+v, %v; opened %d times", trip, err, opened)
	}
	want := []Taken{{}, {Known: true, OpenErr: errLocked}, {Known: true}}
	for i, taken := range trip.Offered {
		if taken.Known != want[i].Known || !errors.Is(taken.OpenErr, want[i].OpenErr) {
			t.Errorf("offer %d: %+v, want %+v", i, taken, want[i])
		}
	}
}

func TestDistrustEndsBeforeAnyKeyIsOffered(t *testing.T) {
	host, mine := newSigner(t), newSigner(t)
	p := plan(sshServer(t, host, takes(mine), nil), offer(mine)...)
	p.Trust = func(ssh.PublicKey) error { return errors.New("no") }
	trip, err := GoSSH(context.Background(), p)
	if !errors.Is(err, ErrTrust) || trip.HostKey == nil || len(trip.Offered) != 0 {
		t.Errorf("%+v, %v", trip, err)
	}
}

func TestServices(t *testing.T) {
	host, mine := newSigner(t), newSigner(t)
	const ref = "003d" + "0123456789012345678901234567890123456789 refs/heads/main\n"
	port := sshServer(t, host, takes(mine), func(channel ssh.Channel, command string) {
		switch {
		case command == "git-receive-pack 'it'\\''s'":
			_, _ = fmt.Fprint(channel.Stderr(), "you may not write")
		case strings.HasPrefix(command, "git-upload-pack"):
			_, _ = fmt.Fprint(channel, ref, flushPacket)
		default:
			_, _ = fmt.Fprint(channel, "no shell, "+command+"\n")
		}
	})
	p := plan(port, offer(mine)...)
	p.Service, p.Instead, p.Path, p.Greeting = "git-receive-pack", "git-upload-pack", "it's", true
	trip, err := GoSSH(context.Background(), p)
	if !errors.Is(err, ErrService) || trip.Answer.Open || trip.Answer.Message != "you may not write" {
		t.Errorf("writing: %+v, %v", trip.Answer, err)
	}
	if !trip.Instead.Open || trip.Instead.Refs != 1 {
		t.Errorf("reading: %+v", trip.Instead)
	}
	if trip.Greeting != "no shell, \n" {
		t.Errorf("greeting %q", trip.Greeting)
	}
}

func TestAddressFamily(t *testing.T) {
	host, mine := newSigner(t), newSigner(t)
	p := plan(sshServer(t, host, takes(mine), nil), offer(mine)...)
	p.Family = "inet"
	if _, err := GoSSH(context.Background(), p); err != nil {
		t.Errorf("the family of the address: %v", err)
	}
	p.Family = "inet6"
	if _, err := GoSSH(context.Background(), p); !errors.Is(err, ErrNameUnknown) {
		t.Errorf("another family: %v", err)
	}
}

func TestCancelled(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	port := serve(t, func(c net.Conn) { cancel(); _, _ = bufio.NewReader(c).ReadString(0) })
	if _, err := GoSSH(ctx, plan(port)); !errors.Is(err, context.Canceled) {
		t.Errorf("%v, want context.Canceled", err)
	}
}

func TestReadAdvertisement(t *testing.T) {
	const name = "0123456789012345678901234567890123456789"
	for _, row := range []struct {
		name, text string
		refs       int
		words      string
		err        error
	}{
		{"two refs", packet(name+" refs/heads/main\n") + packet(name+" HEAD\x00caps\n") + flushPacket, 2, "", nil},
		{"empty repository", packet(name+" capabilities^{}\x00ab\n") + flushPacket, 0, "", nil},
		{"version line", "000eversion 1\n0000", 0, "", nil},
		{"a refusal", "0010ERR go away\n", 0, "go away", errRefusal},
		{"words", "Welcome to the shell", 0, "Welcome to the shell", errNoPacket},
		{"words before an advertisement", "Welcome\n" + packet(name+" HEAD\x00caps\n"), 0,
			"Welcome\n" + packet(name+" HEAD\x00caps\n"), errNoPacket},
		{"few words", "no", 0, "no", errNoPacket},
		{"nothing", "", 0, "", errCut},
		{"cut short", "003d0123", 0, "", errCut},
		{"largest packet", fmt.Sprintf("%04x%s0000", maxPacket, strings.Repeat("x", maxPacket-4)), 0, "", nil},
		{"too large", "fff1" + strings.Repeat("x", 9), 0, "fff1xxxxxxxxx", errNoPacket},
	} {
		ad, err := readAdvertisement(bufio.NewReader(strings.NewReader(row.text)))
		if !errors.Is(err, row.err) || ad.words != row.words || ad.refs != row.refs {
			t.Errorf("%s: %+v, %v; want %d refs, %q, %v", row.name, ad, err, row.refs, row.words, row.err)
		}
		if noise := advertises().MatchString(ad.words); noise != strings.HasPrefix(row.name, "words before") {
			t.Errorf("%s: an advertisement behind words: %v", row.name, noise)
		}
	}
}

func packet(text string) string { return fmt.Sprintf("%04x%s", len(text)+4, text) }

func FuzzReadAdvertisement(f *testing.F) {
	f.Add(packet("0123456789012345678901234567890123456789 refs/heads/main\n") + flushPacket)
	f.Add("0010ERR go away\n")
	f.Fuzz(func(t *testing.T, text string) {
		ad, err := readAdvertisement(bufio.NewReader(strings.NewReader(text)))
		if ad.refs > len(text)/40 || len(ad.words) > maxWords+maxPacket {
			t.Fatalf("%q: %+v, %v", text, ad, err)
		}
	})
}

// TestCommandEndsOnce: whoever waits for a command that one goes through waits for the same end (make race).
func TestCommandEndsOnce(t *testing.T) {
	t.Parallel()
	for range 20 {
		conn, err := dialCommand(context.Background(), "sh -c 'echo refused >&2'")
		if err != nil {
			t.Fatal(err)
		}
		closed := make(chan struct{})
		go func() {
			defer close(closed)
			_ = conn.Close() // as the library of ssh does when it gives up
		}()
		_ = conn.end()
		<-closed
		if words := conn.end(); words != "" && words != "refused" {
			t.Errorf("it said %q", words)
		}
	}
}

// TestOldProtocol knows servers that speak the first version of the protocol alone, and no others.
func TestOldProtocol(t *testing.T) {
	t.Parallel()
	for first, old := range map[string]bool{"SSH-1.5-OpenSSH_1.2\n": true, "Welcome\nSSH-1.5-x": true,
		"SSH-1.99-both\n": false, "SSH-2.0-x\n": false, "": false} {
		if oldSSH().MatchString(first) != old {
			t.Errorf("%q: %v", first, !old)
		}
	}
}

// TestFilesHandedOut reads the list of refs of a server that runs nothing of git's.
func TestFilesHandedOut(t *testing.T) {
	t.Parallel()
	name := strings.Repeat("a", 40)
	for text, refs := range map[string]int{name + "\trefs/heads/main\n" + name + "\trefs/tags/v1\n": 2,
		name + "\trefs/heads/main": 1, "<html>": 0, "": 0, name + " refs/heads/main\n": 0,
		"x\n" + name + "\trefs/x\n": 0} {
		var a WebAnswer
		if open := a.readFiles(bufio.NewReader(strings.NewReader(text))); open != (refs > 0) || a.Refs != refs ||
			a.Open != open {
			t.Errorf("%q: %v, %+v", text, open, a)
		}
	}
}
