package holder

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"encoding/binary"
	"errors"
	"io"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"anchorage.example/unicrux/core/agent"
	"anchorage.example/unicrux/core/lifetime"
	"anchorage.example/unicrux/core/query"
)

// serve runs a holder in this process and returns its socket and how it ended.
func serve(t *testing.T, o Options) (socket string, ended chan error) {
	t.Helper()
	if o.Socket == "" {
		o.Socket = filepath.Join(t.TempDir(), "run", "agent")
	}
	if o.Content == nil {
		o.Content = keeper()
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

func keeper() *agent.Keeper { return agent.NewKeeper(lifetime.System(nil), nil) }

func load(t *testing.T, socket string, lifetime time.Duration) {
	t.Helper()
	_, private, err := ed25519.GenerateKey(nil)
	if err != nil {
		t.Fatal(err)
	}
	conn, err := agent.OpenOwn(socket)
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
			if ran, err := StopAgent(t.Context(), socket); !ran || err != nil {
				t.Errorf("stop: %v, %v", ran, err)
			}
		}},
		"told to stop, with nothing held": {Options{}, func(t *testing.T, socket string) {
			if ran, err := StopAgent(t.Context(), socket); !ran || err != nil {
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
	for _, words := range []string{"", "\x00\x00", "\x00\x00\x00\x05\x0b", "\xff\xff\xff\xff\x01",
		strings.Repeat("nonsense", 100)} {
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
	conn, err := agent.OpenOwn(socket)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	holdings, err := conn.Holdings()
	if err != nil || len(holdings) != 1 || holdings[0].Comment != "mine" ||
		time.Until(holdings[0].Ends) < 59*time.Minute {
		t.Errorf("it holds %+v, %v", holdings, err)
	}
}

// askedVault answers every question by itself, and git's with as much as is wanted. It counts what
// it was made to forget.
type askedVault struct {
	much   int
	forgot *atomic.Int32
}

func (askedVault) Forget() (time.Duration, bool) { return 0, false }
func (v askedVault) RemoveAll()                  { v.forgot.Add(1) }
func (v askedVault) Answer(name string, question []byte) ([]byte, error) {
	switch string(question) {
	case "no":
		return nil, query.ErrNo
	case "damaged":
		return nil, query.ErrDamaged
	case "much":
		return bytes.Repeat([]byte("a"), v.much), nil
	}
	return []byte(name + ": " + string(question)), nil
}

// door runs the holder of a vault.
func door(t *testing.T, much int) (socket string, ended chan error, forgot *atomic.Int32) {
	forgot = &atomic.Int32{}
	socket, ended = serve(t, Options{Content: NewDoor(askedVault{much, forgot})})
	return socket, ended, forgot
}

// TestAtDoor answers the same to a client that brings its question with it, to one that says it in
// parts, and to one that asks for something else.
func TestAtDoor(t *testing.T) {
	t.Parallel()
	const much = 200_000
	socket, ended, _ := door(t, much)
	for _, name := range []string{query.ForGit, "another"} {
		for question, want := range map[string]string{"tide": name + ": tide", "": name + ": ",
			"much": strings.Repeat("a", much)} {
			if got, err := query.Holder(socket, name, []byte(question)); err != nil || string(got) != want {
				t.Errorf("%s, %s: %.60q, %v", name, question, got, err)
			}
		}
		for question, want := range map[string]error{"no": query.ErrNo, "damaged": query.ErrDamaged} {
			if got, err := query.Holder(socket, name, []byte(question)); !errors.Is(err, want) {
				t.Errorf("%s, %s: %q, %v", name, question, got, err)
			}
		}
		body := append([]byte{query.Version}, query.Message([]byte(name))...)
		message := query.Message(append(body, "tide"...))
		for _, cut := range []int{1, 4, 17, len(message)} {
			conn, err := net.Dial("unix", socket)
			if err != nil {
				t.Fatal(err)
			}
			want := string(query.Message([]byte("\x00" + name + ": tide")))
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
	if ran, err := StopDoor(t.Context(), socket); !ran || err != nil {
		t.Errorf("stop: %v, %v", ran, err)
	}
	finished(t, socket, ended)
}

// TestTheDoorIsNoAgent asks each of the two for what the other does: whatever is lent to another
// computer as an agent, the chest is not behind it.
func TestTheDoorIsNoAgent(t *testing.T) {
	t.Parallel()
	chestDoor, _, forgot := door(t, 0)
	if conn, err := agent.OpenOwn(chestDoor); err == nil {
		t.Errorf("the door answers as an agent: %+v", conn.Keys)
	}
	raw, err := net.Dial("unix", chestDoor)
	if err != nil {
		t.Fatal(err)
	}
	defer raw.Close()
	for _, message := range []byte{11, 19, 22, 27} { // list, remove all, lock, extension (section 7.1 of the draft)
		if _, err := raw.Write(query.Message([]byte{message})); err != nil {
			t.Fatal(err)
		}
		answer, err := query.ReadMessage(raw)
		if err != nil || len(answer) != 1 || answer[0] != 3 {
			t.Errorf("message %d: %q, %v", message, answer, err)
		}
	}
	if forgot.Load() != 0 {
		t.Error("a message for an agent made it forget")
	}
	keys, _ := serve(t, Options{})
	for _, name := range []string{query.ForGit, "unseal", aliveQuestion} {
		if got, err := query.Holder(keys, name, []byte("x")); err == nil {
			t.Errorf("the agent answers %s: %q", name, got)
		}
	}
	conn, err := agent.OpenOwn(keys)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	if DoorAnswers(keys) || AgentAnswers(chestDoor) || !DoorAnswers(chestDoor) || !AgentAnswers(keys) {
		t.Error("one is taken for the other")
	}
}

// TestIdleClientsShutNobodyOut leaves more connections open than the holder serves at once.
func TestIdleClientsShutNobodyOut(t *testing.T) {
	t.Parallel()
	keys, _ := serve(t, Options{})
	chestDoor, _, _ := door(t, 0)
	for _, socket := range []string{keys, chestDoor} {
		for range maxClients + 50 {
			conn, err := net.Dial("unix", socket)
			if err != nil {
				t.Fatal(err)
			}
			defer conn.Close()
		}
	}
	load(t, keys, time.Hour)
	if _, err := query.Holder(chestDoor, "another", []byte("tide")); err != nil {
		t.Errorf("at the door: %v", err)
	}
}

// TestLongMessages hangs up on whoever sends more than there is to say, and lives on.
func TestLongMessages(t *testing.T) {
	t.Parallel()
	keys, _ := serve(t, Options{})
	chestDoor, _, _ := door(t, 0)
	for _, socket := range []string{keys, chestDoor} {
		for _, length := range []uint32{query.MaxMessage + 1, 16 << 20, 1<<32 - 1} {
			conn, err := net.Dial("unix", socket)
			if err != nil {
				t.Fatal(err)
			}
			header := binary.BigEndian.AppendUint32(nil, length)
			_, _ = conn.Write(append(header, bytes.Repeat([]byte{11}, 1000)...))
			if err := conn.SetReadDeadline(time.Now().Add(20 * time.Second)); err != nil {
				t.Fatal(err)
			}
			if n, err := conn.Read(make([]byte, 1)); err == nil || errors.Is(err, os.ErrDeadlineExceeded) {
				t.Errorf("%d bytes: it answers %d, %v", length, n, err)
			}
			_ = conn.Close()
		}
	}
	load(t, keys, time.Hour)
}

// TestOneAtATime starts a second holder beside a living one, and one over a dead one's socket.
func TestOneAtATime(t *testing.T) {
	t.Parallel()
	socket, _ := serve(t, Options{})
	load(t, socket, time.Hour)
	if err := Serve(t.Context(), Options{Socket: socket, Content: keeper()}); !errors.Is(err, ErrRunning) {
		t.Errorf("the second: %v", err)
	}
	if !AgentAnswers(socket) {
		t.Error("the first does not answer any more")
	}

	stale := filepath.Join(t.TempDir(), "agent")
	if err := os.Chmod(filepath.Dir(stale), 0o700); err != nil {
		t.Fatal(err)
	}
	listener, err := net.Listen("unix", stale)
	if err != nil {
		t.Fatal(err)
	}
	listener.(*net.UnixListener).SetUnlinkOnClose(false)
	if err := listener.Close(); err != nil {
		t.Fatal(err)
	}
	if AgentAnswers(stale) {
		t.Fatal("a dead socket answers")
	}
	serve(t, Options{Socket: stale})
	if !AgentAnswers(stale) {
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
	if err := Serve(context.Background(), Options{Socket: long, Content: keeper()}); err == nil ||
		!strings.Contains(err.Error(), "bytes") {
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
	err := Serve(t.Context(), Options{Socket: filepath.Join(home, "state", "run", "agent"), Content: keeper()})
	if err == nil || !strings.Contains(err.Error(), "belongs to another user") {
		t.Errorf("served there: %v", err)
	}
	if entries, err := os.ReadDir(home); err != nil || len(entries) > 0 {
		t.Errorf("left behind: %v, %v", entries, err)
	}
}
