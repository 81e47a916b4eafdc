// Package holder is the background process that holds what was unlocked, for a set time. There are
// two of them, each on a private socket of this person's: one holds keys, and is an ssh agent; one
// holds what opens the chest, and answers git. What ssh lends to another computer has nothing to do
// with the chest, and when a process ends, nothing is left of what it held.
//
// [Start] makes sure that one runs, [Serve] is that process, [Stop] makes it forget. There is
// one for each socket: it holds a lock beside it for as long as it lives, so that a socket
// which a killed one left behind stands in nobody's way.
package holder

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"sync"
	"time"

	"github.com/gofrs/flock"

	"anchorage.example/unicrux/core/disk"
	"anchorage.example/unicrux/core/lifetime"
	"anchorage.example/unicrux/core/memory"
	"anchorage.example/unicrux/core/regular"
)

const (
	// grace is how long a new holder waits for the first thing to hold: somebody may be typing the
	// passphrase.
	grace = 2 * time.Minute
	// watch is how often the clocks and the socket are looked at. A timer alone stands still while
	// the computer sleeps.
	watch = 30 * time.Second
	// startPatience bounds the wait for another holder that is starting or ending.
	startPatience = 5 * time.Second
	// drainTimeout bounds how long an ending holder waits for answers that are due.
	drainTimeout = time.Second
	// maxClients bounds how many programs speak to the holder at once. When one more comes, the one
	// that has been silent for longest is let go.
	maxClients = 256
)

// ErrRunning is returned by [Serve] when a holder serves this socket already.
var ErrRunning = errors.New("a holder is running already")

// A Content is what a holder holds, and how it speaks about it.
type Content interface {
	// Serve speaks to one client until it leaves.
	Serve(conn net.Conn)
	// Forget drops what has ended, and tells how long it is until the next thing ends; ok is false
	// when nothing is held.
	Forget() (left time.Duration, ok bool)
	// Retire makes it take nothing more, provided that it holds nothing.
	Retire() bool
	// RemoveAll forgets everything.
	RemoveAll()
	// Changed tells when what is held may have changed.
	Changed() <-chan struct{}
}

// A Quick content can answer a client in the process that lets it in, when it has said everything
// already.
type Quick interface {
	// AtOnce answers what was said; ok is false where that is not the whole of a question that can
	// be answered so.
	AtOnce(said []byte) (answer []byte, ok bool)
}

// Options are what a holder needs. The zero value of each field but Socket and Content is right.
type Options struct {
	Socket  string         // where it listens
	Content Content        // what it holds
	Clock   lifetime.Clock // the zero value is this computer's
	Grace   time.Duration  // how long it waits for the first thing to hold; 0 for two minutes
	Ready   func()         // called once it listens
}

// Serve holds until nothing is left, ctx ends, or the socket is taken away.
func Serve(ctx context.Context, o Options) error {
	if o.Clock.Now == nil {
		o.Clock = lifetime.System(nil)
	}
	if o.Grace == 0 {
		o.Grace = grace
	}
	memory.Private()
	unlock, err := claim(ctx, o.Socket)
	if err != nil {
		return err
	}
	defer unlock()
	listener, err := listen(o.Socket)
	if err != nil {
		return err
	}
	h := &holder{Options: o, listener: listener, clients: map[*client]bool{}}
	go h.accept()
	if o.Ready != nil {
		o.Ready()
	}
	h.wait(ctx)
	return h.end()
}

// claim takes the lock beside the socket, or finds that a living holder has it.
func claim(ctx context.Context, socket string) (unlock func(), err error) {
	path := lockPath(socket)
	if err := privateFolder(filepath.Dir(path)); err != nil {
		return nil, err
	}
	lock := flock.New(path, flock.SetPermissions(0o600), flock.SetFlag(os.O_CREATE|os.O_RDWR|noFollow))
	ctx, cancel := context.WithTimeout(ctx, startPatience)
	defer cancel()
	for {
		locked, err := lock.TryLock()
		if err != nil {
			return nil, err
		}
		if locked {
			err := disk.WriteFile(path, []byte(strconv.Itoa(os.Getpid())), 0o600)
			return func() { _ = lock.Unlock() }, err // the process ends anyway
		}
		if Listens(socket) {
			return nil, ErrRunning
		}
		select {
		case <-ctx.Done():
			return nil, fmt.Errorf("another holder has %s and does not answer", path)
		case <-time.After(5 * time.Millisecond):
		}
	}
}

// PID is the number of the process that serves the socket; 0 when it is not known.
func PID(socket string) int {
	text, _ := regular.ReadOwn(lockPath(socket), 64) // no file, no number
	pid, _ := strconv.Atoi(string(text))
	return pid
}

// privateFolder makes a folder that is closed to everybody else.
func privateFolder(dir string) error {
	nearest := dir
	for parent := filepath.Dir(dir); !exists(nearest) && parent != nearest; parent = filepath.Dir(nearest) {
		nearest = parent
	}
	info, err := os.Stat(nearest)
	if err != nil {
		return err
	}
	if !isMine(info) { // by sudo, say, which keeps somebody's home
		return fmt.Errorf("%s belongs to another user: Unicrux puts no secret there", nearest)
	}
	if err := disk.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	if info, err = os.Lstat(dir); err != nil {
		return err
	}
	if !info.IsDir() || !isMine(info) {
		return fmt.Errorf("%s belongs to another user: Unicrux puts no secret there", dir)
	}
	if info.Mode().Perm()&0o077 != 0 && ownerOnly {
		return disk.Chmod(dir, 0o700)
	}
	return nil
}

func exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

// A holder is the running process.
type holder struct {
	Options
	listener net.Listener

	mu      sync.Mutex
	clients map[*client]bool
	ended   bool
}

// wait returns when the holder is to end.
func (h *holder) wait(ctx context.Context) {
	patience, had := h.Clock.In(h.Grace), false
	for {
		left, holds := h.Content.Forget()
		had = had || holds
		if !holds && (had || h.Clock.Passed(patience)) && h.Content.Retire() {
			return
		}
		pause := watch
		if holds {
			pause = min(pause, left)
		} else if !had {
			pause = min(pause, h.Clock.Left(patience))
		}
		timer := time.NewTimer(max(pause, time.Millisecond))
		select {
		case <-ctx.Done():
			timer.Stop()
			return
		case <-h.Content.Changed():
			had = true
		case <-timer.C:
			if !listensAt(h.Socket) {
				return
			}
		}
		timer.Stop()
	}
}

// accept serves clients until the listener is closed. What one of them does, or fails to
// do, concerns no other.
func (h *holder) accept() {
	for {
		conn, err := h.listener.Accept()
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil { // too many open files, say: the next one may succeed
			time.Sleep(10 * time.Millisecond)
			continue
		}
		if !fromSelf(conn) {
			_ = conn.Close()
		} else if said, answered := h.replyEarly(conn); answered || !h.serve(conn, said) {
			_ = conn.Close()
		}
	}
}

// replyEarly answers a client that has said already what it wants to know: git waits for it, and to wake
// somebody else for the answer takes longer than to give it. Anybody else is let in, with what was
// heard.
func (h *holder) replyEarly(conn net.Conn) (said []byte, answered bool) {
	quick, able := h.Content.(Quick)
	if !able {
		return nil, false
	}
	said = peek(conn)
	answer, ok := quick.AtOnce(said)
	if !ok || len(answer) > mostAtDoor {
		return said, false
	}
	_, _ = conn.Write(answer) // who has left needs none
	return said, true
}

// serve speaks to a client, of which something may have been heard, until it leaves.
func (h *holder) serve(conn net.Conn, said []byte) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.ended {
		return false
	}
	if len(h.clients) >= maxClients {
		h.letGo()
	}
	c := newClient(conn, said)
	h.clients[c] = true
	go func() {
		h.Content.Serve(c) // ends when the client leaves
		h.mu.Lock()
		defer h.mu.Unlock()
		delete(h.clients, c)
		_ = c.Close() // the client is gone
	}()
	return true
}

// letGo closes the connection that has been silent for longest. The caller holds the lock.
func (h *holder) letGo() {
	var silent *client
	for c := range h.clients {
		if !c.due.Load() && (silent == nil || c.last.Load() < silent.last.Load()) {
			silent = c
		}
	}
	if silent != nil {
		delete(h.clients, silent)
		_ = silent.Close() // it may come again
	}
}

// end forgets everything and takes the socket away. Answers that are due, to whoever made it
// forget, are given first.
func (h *holder) end() error {
	err := h.listener.Close()
	h.Content.RemoveAll()
	for deadline := time.Now().Add(drainTimeout); h.anyDue() && time.Now().Before(deadline); {
		time.Sleep(time.Millisecond)
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	h.ended = true
	for c := range h.clients {
		_ = c.Close() // nothing of ours is lost with it
	}
	return err
}

func (h *holder) anyDue() bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	for c := range h.clients {
		if c.due.Load() {
			return true
		}
	}
	return false
}
