package standin

import (
	"cmp"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"
)

// Options say how a practice host is started. The zero value is right for most.
type Options struct {
	// where it keeps its repositories and hands out files; empty for a temporary one, which is removed at the end
	Folder  string
	SSHPort int      // 0 for any free port
	WebPort int      // 0 for any free port
	World   string   // forge, saltmarsh or lantern; empty for forge
	Faults  []string // what to do wrong, for [Host.Begin]
}

// A Host is a running practice host. Its methods may be used by several goroutines.
type Host struct {
	Folder string // holds the description and a token, for whoever wants to try the host

	world     *world
	temporary bool
	hostKey   ssh.Signer
	authority *authority
	ssh, web  net.Listener
	other     net.Listener // SSH as well, for networks where the first port is closed
	server    *http.Server
	state     state
	stop      context.CancelFunc
	ctx       context.Context
	running   sync.WaitGroup
}

// state is what changes while the host runs.
type state struct {
	sync.Mutex
	keys    []registered
	signing []registered // keys that sign, and open nothing
	last    int          // number of the last key registered
	open    map[net.Conn]bool
	blocked map[string]bool // accounts that may do nothing
	passes  []*pass
	codes   []*deviceCode
	faults  []Fault // what the host does wrong
}

// A registered key opens an account.
type registered struct {
	id      string
	account string
	repo    string // the one that it opens; empty for all of the account's
	title   string
	key     ssh.PublicKey
	added   time.Time
	Terms
	used time.Time // zero for never
}

// Terms are what a key is registered for.
type Terms struct {
	Until    time.Time // zero for no end
	ReadOnly bool
}

// Start starts a practice host on loopback. It needs git on the path.
func Start(o Options) (h *Host, err error) {
	make, found := worlds[cmp.Or(o.World, "forge")]
	if !found {
		return nil, fmt.Errorf("there is no practice host %q", o.World)
	}
	h = &Host{world: make(), Folder: o.Folder}
	h.state.open, h.state.blocked = map[net.Conn]bool{}, map[string]bool{}
	h.ctx, h.stop = context.WithCancel(context.Background())
	defer func() {
		if err != nil {
			err = errors.Join(err, h.Close())
			h = nil
		}
	}()
	if o.Folder == "" {
		h.temporary = true
		if h.Folder, err = os.MkdirTemp("", "unicrux-practice-"); err != nil {
			return h, err
		}
	}
	if err := h.makeSecrets(); err != nil {
		return h, err
	}
	if err := h.makeRepositories(); err != nil {
		return h, err
	}
	if h.ssh, err = listen(o.SSHPort); err != nil {
		return h, err
	}
	if h.web, err = listen(o.WebPort); err != nil {
		return h, err
	}
	if h.other, err = listen(0); err != nil {
		return h, err
	}
	if err := h.handOut(); err != nil {
		return h, err
	}
	h.serveSSH()
	h.serveWeb()
	return h, h.Begin(o.Faults...)
}

func listen(port int) (net.Listener, error) {
	listener, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
	if err != nil {
		return nil, fmt.Errorf("the practice host: %w", err)
	}
	return listener, nil
}

func newHostKey() (ssh.Signer, error) {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	return ssh.NewSignerFromKey(private)
}

func (h *Host) makeSecrets() error {
	var err error
	if h.hostKey, err = newHostKey(); err != nil {
		return err
	}
	if h.authority, err = newAuthority(h.world.hostname); err != nil {
		return err
	}
	for _, account := range h.world.accounts {
		h.Issue(account, "handed out", h.world.all, time.Time{})
	}
	return nil
}

// handOut writes the tokens of the person whose workstation this is.
func (h *Host) handOut() error {
	if len(h.world.all) == 0 {
		return nil
	}
	var err error
	for _, account := range append([]string{h.world.owner}, h.world.handed...) {
		err = errors.Join(err, os.WriteFile(h.TokenFileOf(account), []byte(h.firstToken(account)+"\n"), 0o600))
	}
	return err
}

// DescriptionFile is the file to give to "host add". Whoever starts the host writes it.
func (h *Host) DescriptionFile() string { return filepath.Join(h.Folder, h.world.name+".toml") }

// TokenFile holds the owner's token for the host's interface.
func (h *Host) TokenFile() string { return h.TokenFileOf(h.world.owner) }

// TokenFileOf holds the token of one of the two accounts that one person has.
func (h *Host) TokenFileOf(account string) string { return filepath.Join(h.Folder, account+".token") }

// FirstRepository is one to begin with.
func (h *Host) FirstRepository() string { return h.world.repos[0].path }

// Owner is the account whose token is handed out.
func (h *Host) Owner() string { return h.world.owner }

// SSHPort and WebPort are the ports on 127.0.0.1 that the host listens on.
func (h *Host) SSHPort() int { return h.ssh.Addr().(*net.TCPAddr).Port }

// OtherPort is another port for SSH, as hosts have it for networks where the first is closed.
func (h *Host) OtherPort() int { return h.other.Addr().(*net.TCPAddr).Port }

// WebPort is the port of the interface.
func (h *Host) WebPort() int { return h.web.Addr().(*net.TCPAddr).Port }

// Hostname is the name in clone URLs.
func (h *Host) Hostname() string { return h.world.hostname }

// Authority is the certificate by which the interface is to be trusted, in PEM.
func (h *Host) Authority() []byte { return h.authority.pem }

// HostKeyLine is the public line of the host's own key, and HostKeyPrint its fingerprint.
func (h *Host) HostKeyLine() string  { return publicLine(h.HostKey()) }
func (h *Host) HostKeyPrint() string { return ssh.FingerprintSHA256(h.HostKey()) }

// HostKey is the key by which the host is to be known.
func (h *Host) HostKey() ssh.PublicKey { return h.hostKey.PublicKey() }

// Register makes a key open an account, as the interface's "add-key" does.
func (h *Host) Register(account, title string, key ssh.PublicKey) (id string, err error) {
	return h.RegisterOn(account, title, key, Terms{})
}

// Block makes an account unable to do anything, or able again.
func (h *Host) Block(account string, blocked bool) {
	h.state.Lock()
	defer h.state.Unlock()
	h.state.blocked[account] = blocked
}

// RegisterOn registers a key on terms.
func (h *Host) RegisterOn(account, title string, key ssh.PublicKey, terms Terms) (id string, err error) {
	return h.register(registered{account: account, title: title, key: key, Terms: terms})
}

func (h *Host) register(r registered) (id string, err error) {
	h.state.Lock()
	defer h.state.Unlock()
	for _, known := range h.state.keys {
		if sameKey(known.key, r.key) {
			return "", errKeyTaken
		}
	}
	h.state.last++
	r.id, r.added = strconv.Itoa(h.state.last), time.Now().UTC()
	h.state.keys = append(h.state.keys, r)
	return r.id, nil
}

// Forget makes the host forget a key, as somebody does on its page.
func (h *Host) Forget(key ssh.PublicKey) {
	h.state.Lock()
	defer h.state.Unlock()
	h.state.keys = slices.DeleteFunc(h.state.keys, func(r registered) bool { return sameKey(r.key, key) })
}

var errKeyTaken = errors.New("this key is registered already")

// Close ends the host, once: no more connections, those that are open are cut, and its
// temporary folder is removed.
func (h *Host) Close() error {
	h.stop()
	var errs []error
	if h.server != nil { // it closes its listener
		errs = append(errs, h.server.Close())
	} else if h.web != nil {
		errs = append(errs, h.web.Close())
	}
	for _, listener := range []net.Listener{h.ssh, h.other} {
		if listener != nil {
			errs = append(errs, listener.Close())
		}
	}
	h.state.Lock()
	for conn := range h.state.open {
		_ = conn.Close()
	}
	h.state.Unlock()
	h.running.Wait()
	if h.temporary {
		errs = append(errs, os.RemoveAll(h.Folder))
	}
	return errors.Join(errs...)
}

// Title is what the host calls itself.
func (h *Host) Title() string { return h.world.title }

// Allow sets what an account may do with a repository: nothing, not even see it, unless
// reading or writing is allowed.
func (h *Host) Allow(account, path string, read, write bool) {
	h.state.Lock()
	defer h.state.Unlock()
	for i := range h.world.repos {
		if h.world.repos[i].path != path {
			continue
		}
		h.world.repos[i].rights[account] = hidden
		if read {
			h.world.repos[i].rights[account] = reads
		}
		if write {
			h.world.repos[i].rights[account] = writes
		}
	}
}
