package sshway

import (
	"bytes"
	"context"
	"errors"
	"io/fs"
	"net"
	"net/netip"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/agent"
	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/knownhosts"
	"anchorage.example/unicrux/core/regular"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/core/shellwords"
	"anchorage.example/unicrux/core/sshconfig"
	"anchorage.example/unicrux/core/sshfp"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/wire"
	"anchorage.example/unicrux/core/workstation"
)

// A Way is what ssh would do. Close it when the trip is over: it holds the agent.
type Way struct {
	Address  address.Address
	Command  gitlink.SSHCommand
	Settings *sshconfig.Settings
	Client   *sshconfig.Client
	Known    *knownhosts.Known
	Banned   *Banned // nil where settings name no file of revoked host keys

	Keys     []Key     // to be offered, in order
	Kept     []Key     // the agent's others, which settings keep back
	Left     []LeftOut // files that settings name and ssh passes over
	AgentErr error     // the agent that settings or environment name does not answer

	run      func(words []string) []byte // a command of the settings; nil where none may run
	portless func() *knownhosts.Known    // what is stored for the name without its port; nil where that does not count

	// Names asks the name servers, once, for the fingerprints of the host's keys; nil where settings do not want that.
	Names func() (sshfp.Records, error)

	agent  *agent.Conn
	holder func(socket string) bool // tells whether our own agent listens there when it runs
}

// A Key is one that ssh would offer.
type Key struct {
	Name    string        // as people call it
	Path    string        // the private file; empty for a key that is only in the agent
	Public  ssh.PublicKey // nil when locked in an old form without a public file: then it cannot be offered
	Locked  bool          // needs a passphrase before it can sign; false for the agent's
	Pair    *sshkey.Pair  // nil for a key that is only in the agent
	Origin  sshconfig.Origin
	InAgent bool
	signer  ssh.Signer // the agent's
}

// Certificate is the certificate as which the key is offered; nil for the key itself.
func (k Key) Certificate() *ssh.Certificate {
	certificate, _ := k.Public.(*ssh.Certificate)
	return certificate
}

// A LeftOut is a key file that ssh passes over.
type LeftOut struct {
	Path   string
	Origin sshconfig.Origin
	Err    error
}

// ErrExposed is why ssh ignores a private file that others may read.
var ErrExposed = errors.New("others may read it, so ssh ignores it")

// Prepare settles what an ssh program would do for an address. Nothing that settings would run is run.
func Prepare(station *workstation.Station, command gitlink.SSHCommand, a address.Address) (*Way, error) {
	return PrepareWith(context.Background(), station, command, a, Leave{})
}

// A Leave is what else counts for a way.
type Leave struct {
	Options []sshconfig.Option // more of them, on the program's command line

	// RunCommands lets the commands run on which settings depend, as ssh does at each connection: those of Match exec
	// and KnownHostsCommand.
	RunCommands bool

	// Assume takes for granted that the commands of Match exec succeed, and runs none.
	Assume bool
}

// PrepareWith is [Prepare] with more leave. Commands end with ctx.
func PrepareWith(ctx context.Context, station *workstation.Station, command gitlink.SSHCommand, a address.Address,
	leave Leave) (*Way, error) {
	w := &Way{Address: a, Command: command, holder: station.IsHolder}
	query := command.Query(a, station)
	query.Command.Options = append(query.Command.Options, leave.Options...)
	query.Exists = sshconfig.ByNameServers
	if leave.RunCommands {
		query.Run = func(line string) bool { return RunLine(ctx, station, line) }
		w.run = func(words []string) []byte { return runWords(ctx, station, words) }
	}
	if leave.Assume {
		query.Run = func(string) bool { return true }
	}
	w.Settings = sshconfig.Resolve(query)
	w.Client = w.Settings.Client()
	files := append(slices.Clone(w.Client.KnownHosts), w.Client.SystemHosts...)
	w.Known = knownhosts.Lookup(files, w.Client.KnownHostsName)
	if _, _, alias := w.Settings.First("hostkeyalias"); !alias && w.Client.Port != 22 {
		w.portless = sync.OnceValue(func() *knownhosts.Known { return knownhosts.Lookup(files, w.Client.HostName) })
	}
	w.Banned = w.banned()
	if _, err := netip.ParseAddr(w.Client.HostName); err != nil && w.namesVouch() != "no" {
		w.Names = sync.OnceValues(func() (sshfp.Records, error) { return sshfp.Lookup(ctx, w.Client.HostName) })
	}
	if w.Client.KeySignIn {
		w.gather()
	}
	return w, nil
}

// Close lets go of the agent.
func (w *Way) Close() error {
	if w.agent == nil {
		return nil
	}
	return w.agent.Close()
}

func (w *Way) agentKeys() []agent.Held {
	if w.Client.Agent == "" {
		return nil
	}
	conn, err := agent.Open(w.Client.Agent)
	if err != nil {
		if !w.holder(w.Client.Agent) { // ours starts when it is needed
			w.AgentErr = err
		}
		return nil
	}
	w.agent = conn
	return conn.Keys
}

func agentName(key agent.Held) string {
	if key.Comment == "" {
		return sshkey.Kind(key.Public)
	}
	return filepath.Base(key.Comment)
}

// fromFile reads one key file as the client would. A public file alone is enough to find
// the key in the agent.
func (w *Way) fromFile(identity sshconfig.Identity) (Key, bool) {
	pair, err := sshkey.Load(identity.Path)
	if errors.Is(err, sshkey.ErrForm) && readsNewer(w.Command.Program) {
		pair, err = sshkey.LoadNewer(identity.Path)
	}
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, sshkey.ErrPublicHalf) {
		if key, found := publicOnly(identity); found && w.Client.Agent != "" {
			return key, true
		}
	}
	if err == nil && IsExposed(pair.Mode) {
		err = ErrExposed
	}
	if err != nil {
		if !identity.Default || !errors.Is(err, fs.ErrNotExist) {
			w.Left = append(w.Left, LeftOut{Path: identity.Path, Origin: identity.Origin, Err: err})
		}
		return Key{}, false
	}
	key := FromPair(pair)
	key.Origin = identity.Origin
	if pair.Beside != nil { // the client believes the public file and not the private one
		key.Public = pair.Beside
	}
	return key, true
}

// FromPair makes a key of a pair that settings need not name.
func FromPair(pair *sshkey.Pair) Key {
	return Key{Name: pair.Name(), Path: pair.Path, Public: pair.Public, Locked: pair.Locked, Pair: pair}
}

func publicOnly(identity sshconfig.Identity) (Key, bool) {
	for _, path := range []string{identity.Path + ".pub", identity.Path} {
		text, err := regular.Read(path, regular.Settings)
		if err != nil {
			continue
		}
		if public, _, err := sshkey.ParseLine(text); err == nil {
			return Key{Name: filepath.Base(identity.Path), Path: identity.Path, Public: public, Locked: true,
				Origin: identity.Origin}, true
		}
	}
	return Key{}, false
}

// AsksOnce tells whether ssh hands what it unlocks to our holder, and so asks for each
// passphrase once a day at most.
func (w *Way) AsksOnce() bool {
	hands, _, _ := w.Settings.First("addkeystoagent")
	return w.holder(w.Client.Agent) && hands == "yes"
}

// HostPort is where ssh would connect to.
func (w *Way) HostPort() string {
	return net.JoinHostPort(w.Client.HostName, strconv.Itoa(w.Client.Port))
}

// Judge tells how ssh would take the host's key without asking anybody: ok when it goes
// on. An unknown key passes only where settings say so; a changed or revoked one never
// does with us, even where settings let ssh go on: we do not sign in to a stranger.
func (w *Way) Judge(key ssh.PublicKey) (verdict knownhosts.Verdict, by *knownhosts.Entry, ok bool) {
	if w.Banned.bans(key) {
		return knownhosts.KeyIsBanned, nil, false
	}
	if verdict, by = w.Known.Judge(key); verdict != knownhosts.Trusted && verdict != knownhosts.KeyIsBanned &&
		w.vouched(key) {
		return knownhosts.Trusted, nil, true
	}
	if verdict == knownhosts.Unknown && w.portless != nil {
		if plain, entry := w.portless().Judge(key); plain == knownhosts.Trusted {
			verdict, by = plain, entry
		}
	}
	if verdict == knownhosts.Unknown && w.run != nil {
		if told := w.told(key); told != nil {
			verdict, by = told.Judge(key)
		}
	}
	switch verdict {
	case knownhosts.Trusted:
		return verdict, by, true
	case knownhosts.Unknown:
		return verdict, by, w.Client.Strict == "accept-new" || w.Client.Strict == "no"
	}
	return verdict, by, false
}

// An Asker asks the person for the passphrase of a key. An error means that nobody can be asked.
type Asker func(pair *sshkey.Pair) (secret.Text, error)

// ErrNobody is returned by an [Asker] when nobody can be asked.
var ErrNobody = fault.New("passphrase-not-asked", fault.Unasked, "there is no terminal to ask for the passphrase on")

// Offers turns keys into offers. A locked key is opened by ask, and only once the host
// has said that it knows the key.
func Offers(keys []Key, ask Asker) []wire.Offer {
	var offers []wire.Offer
	for _, key := range keys {
		if key.Public != nil {
			offers = append(offers, wire.Offer{Public: key.Public,
				Open: func() (ssh.Signer, error) { return key.open(ask) }})
		}
	}
	return offers
}

func (k Key) open(ask Asker) (ssh.Signer, error) {
	switch {
	case k.signer != nil:
		return k.signer, nil
	case k.Pair == nil:
		return nil, fs.ErrNotExist
	case errors.Is(k.Pair.PublicBad, sshkey.ErrOtherKey):
		return nil, k.Pair.PublicBad
	case !k.Locked:
		return k.Pair.Signer(secret.Text{})
	}
	passphrase, err := ask(k.Pair)
	if err != nil {
		return nil, err
	}
	return k.Pair.Signer(passphrase)
}

// Plan makes the plan of a trip to the host, with the host's key judged by trust and no
// keys to offer yet.
func (w *Way) Plan(trust func(ssh.PublicKey) error, timeout time.Duration) wire.Plan {
	return wire.Plan{Host: w.Client.HostName, Port: w.Client.Port, User: w.Client.User, Family: w.Client.Family,
		Proxy:    w.proxy(),
		HostKeys: w.HostKeyAlgorithms(), TrustLocal: w.trustsLocal(), OldRSA: w.oldRSA(), Trust: trust,
		Timeout: timeout}
}

// oldRSA tells whether settings allow signatures over SHA-1, which the client no longer makes by
// itself.
func (w *Way) oldRSA() bool {
	value, _, set := w.Settings.First("pubkeyacceptedalgorithms")
	return set && !strings.HasPrefix(value, "-") && slices.Contains(strings.Split(strings.TrimLeft(value, "+^"), ","),
		ssh.KeyAlgoRSA)
}

// proxy is the command to connect through. A jump is one too: ssh itself, told to pass
// its input on, as the client does for ProxyJump.
func (w *Way) proxy() string {
	if w.Client.ProxyCommand != "" || w.Client.ProxyJump == "" {
		return w.Client.ProxyCommand
	}
	hops := strings.Split(w.Client.ProxyJump, ",")
	words := []string{w.Command.Program, "-o", "BatchMode=yes"}
	if config := w.Command.Line.Config; config != "" {
		words = append(words, "-F", config)
	}
	if len(hops) > 1 {
		words = append(words, "-J", strings.Join(hops[:len(hops)-1], ","))
	}
	words = append(words, "-W", "["+w.Client.HostName+"]:"+strconv.Itoa(w.Client.Port))
	last := sshconfig.ParseJump(hops[len(hops)-1])
	if last.Port != 0 {
		words = append(words, "-p", strconv.Itoa(last.Port))
	}
	if last.User != "" {
		words = append(words, "-l", last.User)
	}
	words = append(words, "--", last.Host)
	return shellwords.Join(words...)
}

func samePublic(a, b ssh.PublicKey) bool { return bytes.Equal(a.Marshal(), b.Marshal()) }
