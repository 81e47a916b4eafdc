package holder

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"errors"
	"io"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"Unicrux/core/agent"
	"Unicrux/core/query"
)

// serve runs a holder in this process and returns its socket and how it ended.
func serve(t *testing.T, o Options) (socket string, ended chan error) {
	t.Helper()
	if o.Socket == "" {
		o.Socket = filepath.Join(t.TempDir(), "run", "agent")
	}
	ready := make(chan struct{})
	o.Ready = func() { close(ready) }
	ended = make(chan error, 1)
	go func() { ended <- Serve(t.Context(), o) }()
	select {
	case <-ready:
	case err := <-ended:
		t.Fatal(err)
	}
	return o.Socket, ended
}

func load(t *testing.T, socket string, lifetime time.Duration) {
	t.Helper()
	_, private, err := ed25519.GenerateKey(nil)
	if err != nil {
		t.Fatal(err)
	}
	conn, err := agent.Open(socket)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	if err := conn.Load(agent.Loan{Private: private, Comment: "mine", Lifetime: lifetime}); err != nil {
		t.Fatal(err)
	}
}

func finished(t *testing.T, socket string, ended chan error) {
	t.Helper()
	select {
	case err := <-ended:
		if err != nil {
			t.Error(err)
		}
	case <-time.After(20 * time.Second):
		t.Fatal("it does not end")
	}
	if _, err := os.Lstat(socket); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("the socket is left behind: %v", err)
	}
}

// TestEnds has every reason for which a holder ends.
func TestEnds(t *testing.T) {
	t.Parallel()
	for name, row := range map[string]struct {
		options Options
		do      func(t *testing.T, socket string)
	}{
		"never given a key":      {Options{Grace: 10 * time.Millisecond}, func(*testing.T, string) {}},
		"the key's time is over": {Options{}, func(t *testing.T, socket string) { load(t, socket, time.Second) }},
		"told to stop": {Options{}, func(t *testing.T, socket string) {
			load(t, socket, time.Hour)
			if ran, err := Stop(t.Context(), socket); !ran || err != nil {
				t.Errorf("stop: %v, %v", ran, err)
			}
		}},
		"told to stop, with nothing held": {Options{}, func(t *testing.T, socket string) {
			if ran, err := Stop(t.Context(), socket); !ran || err != nil {
				t.Errorf("stop: %v, %v", ran, err)
			}
		}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			socket, ended := serve(t, row.options)
			row.do(t, socket)
			finished(t, socket, ended)
		})
	}
}

// TestClientsConcernNoOther lets clients break off, send nonsense and stay away.
func TestClientsConcernNoOther(t *testing.T) {
	t.Parallel()
	socket, _ := serve(t, Options{})
	for _, words := range []string{"", "\x00\x00", "\x00\x00\x00\x05\x0b", "\xff\xff\xff\xff\x01", strings.Repeat("nonsense", 100)} {
		conn, err := net.Dial("unix", socket)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := conn.Write([]byte(words)); err != nil {
			t.Fatal(err)
		}
		if words != "" { // the first one stays and says nothing
			_ = conn.Close()
		}
	}
	load(t, socket, time.Hour)
	conn, err := agent.Open(socket)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	holdings, err := conn.Holdings()
	if err != nil || len(holdings) != 1 || holdings[0].Comment != "mine" || time.Until(holdings[0].Ends) < 59*time.Minute {
		t.Errorf("it holds %+v, %v", holdings, err)
	}
}

// askedVault answers every question by itself, and git's with as much as is wanted.
type askedVault struct{ much int }

func (askedVault) Forget() (time.Time, bool) { return time.Time{}, false }
func (askedVault) RemoveAll()                {}
func (v askedVault) Answer(name string, question []byte) ([]byte, bool, error) {
	switch string(question) {
	case "no":
		return nil, true, errors.New("no")
	case "much":
		return bytes.Repeat([]byte("a"), v.much), true, nil
	}
	return []byte(name + ": " + string(question)), true, nil
}

// TestAtDoor answers the same to a client that brings its question with it, to one that says it in
// parts, and to one that asks for something else.
func TestAtDoor(t *testing.T) {
	t.Parallel()
	const much = 3 << 20 / 2
	socket, _ := serve(t, Options{Vault: askedVault{much}})
	for _, name := range []string{query.ForGit, "another@unicrux"} {
		for question, want := range map[string]string{"tide": name + ": tide", "": name + ": ", "much": strings.Repeat("a", much)} {
			if got, err := query.Holder(socket, name, []byte(question)); err != nil || string(got) != want {
				t.Errorf("%s, %s: %.60q, %v", name, question, got, err)
			}
		}
		if got, err := query.Holder(socket, name, []byte("no")); !errors.Is(err, query.ErrNoAnswer) {
			t.Errorf("%s: a refusal is answered with %q", name, got)
		}
		body := append([]byte{27}, query.Message([]byte(name))...)
		message := query.Message(append(body, "tide"...))
		for _, cut := range []int{1, 4, 20, len(message)} {
			conn, err := net.Dial("unix", socket)
			if err != nil {
				t.Fatal(err)
			}
			want := string(query.Message([]byte("\x1d" + name + ": tide")))
			got := make([]byte, len(want))
			_, first := conn.Write(message[:cut])
			if _, err := query.Holder(socket, name, nil); err != nil { // another one meanwhile
				t.Error(err)
			}
			var second error
			if rest := message[cut:]; len(rest) > 0 { // else it may have hung up already
				_, second = conn.Write(rest)
			}
			if _, err := io.ReadFull(conn, got); errors.Join(first, second, err) != nil || string(got) != want {
				t.Errorf("%s, cut at %d: %q, %v", name, cut, got, errors.Join(first, second, err))
			}
			_ = conn.Close()
		}
	}
}

// TestOneAtATime starts a second holder beside a living one, and one over a dead one's socket.
func TestOneAtATime(t *testing.T) {
	t.Parallel()
	socket, _ := serve(t, Options{})
	load(t, socket, time.Hour)
	if err := Serve(t.Context(), Options{Socket: socket}); !errors.Is(err, ErrRunning) {
		t.Errorf("the second: %v", err)
	}
	if !Answers(socket) {
		t.Error("the first does not answer any more")
	}

	stale := filepath.Join(t.TempDir(), "agent")
	listener, err := net.Listen("unix", stale)
	if err != nil {
		t.Fatal(err)
	}
	listener.(*net.UnixListener).SetUnlinkOnClose(false)
	if err := listener.Close(); err != nil {
		t.Fatal(err)
	}
	if Answers(stale) {
		t.Fatal("a dead socket answers")
	}
	serve(t, Options{Socket: stale})
	if !Answers(stale) {
		t.Error("a stale socket stands in the way")
	}
}

// TestPrivate looks at what others could get at.
func TestPrivate(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(t.TempDir(), "run")
	if err := os.Mkdir(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	socket, _ := serve(t, Options{Socket: filepath.Join(dir, "agent")})
	for path, want := range map[string]fs.FileMode{dir: 0o700, socket: 0o600, socket + ".lock": 0o600} {
		if info, err := os.Stat(path); err != nil || info.Mode().Perm() != want {
			t.Errorf("%s: %v, %v; want %v", path, info.Mode().Perm(), err, want)
		}
	}
	long := filepath.Join(t.TempDir(), strings.Repeat("x", 100), "agent")
	if err := Serve(context.Background(), Options{Socket: long}); err == nil || !strings.Contains(err.Error(), "bytes") {
		t.Errorf("a path too long for a socket: %v", err)
	}
}

// TestNotInAnothersHome starts no holder below a folder of somebody else's, where it would
// leave files that their owner could not remove.
func TestNotInAnothersHome(t *testing.T) {
	t.Parallel()
	if os.Geteuid() != 0 {
		return // nobody else can give a folder away
	}
	home := filepath.Join(t.TempDir(), "home")
	if err := errors.Join(os.Mkdir(home, 0o700), os.Chown(home, 65534, 65534)); err != nil {
		t.Fatal(err)
	}
	err := Serve(t.Context(), Options{Socket: filepath.Join(home, "state", "run", "agent")})
	if err == nil || !strings.Contains(err.Error(), "belongs to somebody else") {
		t.Errorf("served there: %v", err)
	}
	if entries, err := os.ReadDir(home); err != nil || len(entries) > 0 {
		t.Errorf("left behind: %v, %v", entries, err)
	}
}
