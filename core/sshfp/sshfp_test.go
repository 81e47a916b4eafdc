package sshfp

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha1"
	"crypto/sha256"
	"errors"
	"net"
	"slices"
	"testing"

	"golang.org/x/crypto/ssh"
	"golang.org/x/net/dns/dnsmessage"
)

func newKey(t testing.TB) ssh.PublicKey {
	public, _, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	key, err := ssh.NewPublicKey(public)
	if err != nil {
		t.Fatal(err)
	}
	return key
}

func long(key ssh.PublicKey) record {
	sum := sha256.Sum256(key.Marshal())
	return record{4, 2, sum[:]}
}

func short(key ssh.PublicKey) record {
	sum := sha1.Sum(key.Marshal())
	return record{4, 1, sum[:]}
}

func TestMatch(t *testing.T) {
	key, other := newKey(t), newKey(t)
	elliptic := long(other)
	elliptic.algorithm = 3
	for name, row := range map[string]struct {
		list []record
		want bool
	}{
		"none":                                    {nil, false},
		"SHA-256":                                 {[]record{long(key)}, true},
		"SHA-1":                                   {[]record{short(key)}, true},
		"another key's":                           {[]record{long(other)}, false},
		"its own and another key's":               {[]record{long(key), long(other)}, false},
		"its own and that of another algorithm":   {[]record{elliptic, long(key)}, true},
		"one that is made by another digest":      {[]record{{4, 3, long(key).hash}}, false},
		"its own and one by another digest":       {[]record{{4, 3, []byte("x")}, long(key)}, true},
		"its own by one digest, not by the other": {[]record{long(key), short(other)}, false},
	} {
		if got := (Records{list: row.list}).Match(key); got != row.want {
			t.Errorf("%s: %v", name, got)
		}
		if got := (Records{list: row.list}).Match(&ssh.Certificate{Key: key}); got != row.want {
			t.Errorf("%s, in a certificate: %v", name, got)
		}
	}
}

// serve answers each question by UDP with what answer makes of it, and by TCP with what whole makes of it.
func serve(t *testing.T, answer, whole func(question []byte) []byte) string {
	packets, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = packets.Close() })
	streams, err := net.Listen("tcp", packets.LocalAddr().String())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = streams.Close() })
	go func() {
		buffer := make([]byte, 4096)
		for {
			n, from, err := packets.ReadFrom(buffer)
			if err != nil {
				return
			}
			_, _ = packets.WriteTo(answer(buffer[:n]), from)
		}
	}()
	go func() {
		for {
			conn, err := streams.Accept()
			if err != nil {
				return
			}
			buffer := make([]byte, 4096)
			if n, _ := conn.Read(buffer); n > 2 {
				text := whole(buffer[2:n])
				_, _ = conn.Write(append([]byte{byte(len(text) >> 8), byte(len(text))}, text...))
			}
			_ = conn.Close()
		}
	}()
	return packets.LocalAddr().String()
}

// answering makes answers with some records.
func answering(head dnsmessage.Header, list ...record) func([]byte) []byte {
	return func(question []byte) []byte {
		var m dnsmessage.Message
		if err := m.Unpack(question); err != nil {
			return nil
		}
		head := head
		head.ID, head.Response = m.ID+head.ID, true
		reply := dnsmessage.Message{Header: head, Questions: m.Questions}
		for _, r := range list {
			reply.Answers = append(reply.Answers,
				dnsmessage.Resource{Header: dnsmessage.ResourceHeader{Name: m.Questions[0].Name,
					Type: dnsmessage.Type(typeSSHFP), Class: dnsmessage.ClassINET},
					Body: &dnsmessage.UnknownResource{Type: dnsmessage.Type(typeSSHFP),
						Data: append([]byte{r.algorithm, r.digest}, r.hash...)}})
		}
		text, err := reply.Pack()
		if err != nil {
			return nil
		}
		return text
	}
}

func TestLookup(t *testing.T) {
	key := newKey(t)
	right, authentic := answering(dnsmessage.Header{AuthenticData: true}, long(key)),
		dnsmessage.Header{AuthenticData: true}
	for name, row := range map[string]struct {
		answer        func([]byte) []byte
		trusted       bool
		match, secure bool
		err           error
	}{
		"authentic":                        {right, true, true, true, nil},
		"authentic, and not trusted in it": {right, false, true, false, nil},
		"not authentic":                    {answering(dnsmessage.Header{}, long(key)), true, true, false, nil},
		"no record":                        {answering(authentic), true, false, true, nil},
		"no such name": {answering(dnsmessage.Header{RCode: dnsmessage.RCodeNameError}), true,
			false, false, nil},
		"a server that fails": {answering(dnsmessage.Header{RCode: dnsmessage.RCodeServerFailure}), true,
			false, false, ErrNoAnswer},
		"an answer to another question": {answering(dnsmessage.Header{ID: 1, AuthenticData: true}, long(key)), true,
			false, false, ErrNoAnswer},
		"an answer that is cut": {answering(dnsmessage.Header{Truncated: true}), true, true, true, nil},
		"nonsense": {func([]byte) []byte { return []byte("what?") }, true, false,
			false, ErrNoAnswer},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			server := serve(t, row.answer, right)
			records, err := resolver{servers: []string{server}, trusted: row.trusted}.lookup(context.Background(),
				"quay.tidewater.example")
			if !errors.Is(err, row.err) || records.Match(key) != row.match || records.Secure != row.secure {
				t.Errorf("%+v, %v", records, err)
			}
		})
	}
	if _, _, err := ask("quay..example"); !errors.Is(err, ErrName) {
		t.Errorf("no name: %v", err)
	}
	if _, err := (resolver{}).lookup(context.Background(), "quay.tidewater.example"); !errors.Is(err, ErrNoAnswer) {
		t.Errorf("no name server: %v", err)
	}
}

// FuzzRead: no answer makes it fail otherwise than by an error.
func FuzzRead(f *testing.F) {
	question, id, err := ask("quay.tidewater.example")
	if err != nil {
		f.Fatal(err)
	}
	f.Add(answering(dnsmessage.Header{AuthenticData: true}, record{4, 2, []byte("hash")})(question))
	key := newKey(f)
	f.Fuzz(func(t *testing.T, answer []byte) {
		records, err := resolver{trusted: true}.read(answer, id)
		if err == nil && records.Match(key) {
			t.Error("a key that nobody named")
		}
	})
}

// TestNameServers: which name servers are asked (resolv.conf(5)), and whether their word counts.
func TestNameServers(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]resolver{
		"": {servers: []string{"127.0.0.1:53"}},
		"search tidewater.example\noptions trust-ad": {servers: []string{"127.0.0.1:53"}, trusted: true},
		"# nameserver 192.0.2.1\nnameserver 192.0.2.2\nnameserver 2001:db8::1\nnameserver x\noptions edns0 rotate": {
			servers: []string{"192.0.2.2:53", "[2001:db8::1]:53"}},
	} {
		if got := parseResolver([]byte(text)); !slices.Equal(got.servers, want.servers) || got.trusted != want.trusted {
			t.Errorf("%q: %+v", text, got)
		}
	}
}
