// Package holder is the background process that holds what was unlocked, for a set time: an
// ssh agent on a private socket of this person's.
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
	sshagent "golang.org/x/crypto/ssh/agent"

	"Unicrux/core/agent"
	"Unicrux/core/chest"
)

const (
	// grace is how long a new holder waits for its first key: somebody may be typing the
	// passphrase.
	grace = 2 * time.Minute
	// watch is how often the calendar and the socket are looked at. A timer alone stands
	// still while the computer sleeps.
	watch = 30 * time.Second
	// startPatience bounds the wait for another holder that is starting or ending.
	startPatience = 5 * time.Second
	// lastWords bounds how long an ending holder waits for answers that are due.
	lastWords = time.Second
	// maxClients bounds how many programs speak to the holder at once.
	maxClients = 256
)

// ErrRunning is returned by [Serve] when a holder serves this socket already.
var ErrRunning = errors.New("a holder is running already")

// Options are what a holder needs. The zero value of each field but Socket is right.
type Options struct {
	Socket string           // where it listens
	Now    func() time.Time // the clock; nil for the computer's
	Vault  agent.Vault      // has what is not a key; nil for the secrets of a chest alone
	Grace  time.Duration    // how long it waits for its first key; 0 for two minutes
	Ready  func()           // called once it listens
}

// Serve holds keys until none is left, ctx ends, or the socket is taken away.
func Serve(ctx context.Context, o Options) error {
	if o.Now == nil {
		o.Now = time.Now
	}
	if o.Grace == 0 {
		o.Grace = grace
	}
	if o.Vault == nil {
		o.Vault = chest.NewVault(o.Now)
	}
	unlock, err := claim(ctx, o.Socket)
	if err != nil {
		return err
	}
	defer unlock()
	listener, err := listen(o.Socket)
	if err != nil {
		return err
	}
	keepMemoryPrivate()
	h := &holder{keeper: agent.NewKeeper(o.Now, o.Vault), options: o, listener: listener, clients: map[*client]bool{}}
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
	lock := flock.New(path, flock.SetPermissions(0o600))
	ctx, cancel := context.WithTimeout(ctx, startPatience)
	defer cancel()
	for {
		locked, err := lock.TryLock()
		if err != nil {
			return nil, err
		}
		if locked {
			err := os.WriteFile(path, []byte(strconv.Itoa(os.Getpid())), 0o600)
			return func() { _ = lock.Unlock() }, err // the process ends anyway
		}
		if Answers(socket) {
			return nil, ErrRunning
		}
		select {
		case <-ctx.Done():
			return nil, fmt.Errorf("another holder has %s and does not answer", path)
		case <-time.After(5 * time.Millisecond):
		}
	}
}

// Answers tells whether a holder serves the socket.
func Answers(socket string) bool {
	conn, err := agent.Open(socket)
	if err != nil {
		return false
	}
	_, err = conn.Holdings()
	return errors.Join(err, conn.Close()) == nil
}

// PID is the number of the process that serves the socket; 0 when it is not known.
func PID(socket string) int {
	text, _ := os.ReadFile(lockPath(socket)) // no file, no number
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
		return fmt.Errorf("%s belongs to somebody else: no secret goes there", nearest)
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	if info, err = os.Stat(dir); err != nil {
		return err
	}
	if info.Mode().Perm()&0o077 != 0 && ownerOnly {
		return os.Chmod(dir, 0o700)
	}
	return nil
}

func exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

// A holder is the running process.
type holder struct {
	keeper   *agent.Keeper
	options  Options
	listener net.Listener

	mu      sync.Mutex
	clients map[*client]bool
	ended   bool
}

// wait returns when the holder is to end.
func (h *holder) wait(ctx context.Context) {
	born, had := h.options.Now(), false
	for {
		next, holds := h.keeper.Forget()
		had = had || holds
		spent := had || h.options.Now().Sub(born) >= h.options.Grace
		if !holds && spent && h.keeper.Retire() {
			return
		}
		pause := watch
		if holds {
			pause = min(pause, next.Sub(h.options.Now().Round(0)))
		} else if !had {
			pause = min(pause, h.options.Grace-h.options.Now().Sub(born))
		}
		timer := time.NewTimer(max(pause, time.Millisecond))
		select {
		case <-ctx.Done():
			timer.Stop()
			return
		case <-h.keeper.Changed():
			had = true
		case <-timer.C:
			if !listensAt(h.options.Socket) {
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
		} else if said, answered := h.atDoor(conn); answered || !h.serve(conn, said) {
			_ = conn.Close()
		}
	}
}

// serve speaks to a client, of which something may have been heard, until it leaves; not at all
// when there are too many.
func (h *holder) serve(conn net.Conn, said []byte) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.ended || len(h.clients) >= maxClients {
		return false
	}
	c := &client{Conn: conn, said: said}
	h.clients[c] = true
	go func() {
		_ = sshagent.ServeAgent(h.keeper, c) // ends when the client leaves
		h.mu.Lock()
		defer h.mu.Unlock()
		delete(h.clients, c)
		_ = c.Close() // the client is gone
	}()
	return true
}

// end forgets everything and takes the socket away. Answers that are due, to whoever made it
// forget, are given first.
func (h *holder) end() error {
	err := errors.Join(h.listener.Close(), h.keeper.RemoveAll())
	for deadline := time.Now().Add(lastWords); h.anyDue() && time.Now().Before(deadline); {
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
