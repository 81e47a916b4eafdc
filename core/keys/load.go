package keys

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"time"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/agent"
	"anchorage.example/unicrux/core/declared"
	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/regular"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/core/site"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/sshway"
	"anchorage.example/unicrux/core/workstation"
)

// ErrNoAgent is returned when no settings lead to the key and ssh would ask no agent.
var ErrNoAgent = fault.New("key-no-agent", fault.Refused, "no settings of a host lead to this key, and ssh would ask no agent for it")

// A Loading says for how long which key is to be held unlocked.
type Loading struct {
	Pair       *sshkey.Pair
	Passphrase secret.Text   // that opens it; empty for a key without a lock
	Lifetime   time.Duration // 0 for a working day
	// whose settings shall lead to the agent, beside those that use the key already; may be empty
	HostName string
	Confirm  bool // the person is asked each time it is used
	Keep     bool // let the desktop's secret service keep the passphrase
}

// A Loaded says who holds a key now.
type Loaded struct {
	Sockets []string // of the agents
	Holder  bool     // ours is among them
	Until   time.Time
	Kept    bool // the desktop keeps the passphrase
}

// Load unlocks a key and gives it to the agents that ssh will ask for it: those that
// settings name, else the holder, which the settings of each host that uses the key are
// made to name. Where no host uses the key, it goes to the agent of the environment.
func Load(ctx context.Context, p site.Site, batch *workstation.Batch, load Loading) (*Loaded, error) {
	if load.Lifetime == 0 {
		load.Lifetime = agent.WorkingDay
	}
	private, err := load.Pair.Raw(load.Passphrase)
	if err != nil && !batch.Dry {
		return nil, err
	}
	users, err := usesOf(ctx, p, load.Pair, load.HostName)
	if err != nil {
		return nil, err
	}
	loaded := &Loaded{Until: p.Station.Now().Add(load.Lifetime)}
	if load.Keep {
		if err := keepPassphrase(ctx, p, batch, load); err != nil {
			return nil, err
		}
		loaded.Kept = true
	}
	if err := chooseAgents(ctx, p, batch, load, users, loaded); err != nil {
		return nil, err
	}
	if batch.Dry {
		return loaded, nil
	}
	for _, socket := range loaded.Sockets {
		loan := agent.Loan{Private: private, Comment: load.Pair.Path, Lifetime: load.Lifetime, Confirm: load.Confirm}
		if err := Lend(ctx, p, socket, loan); err != nil {
			return loaded, err
		}
	}
	return loaded, nil
}

// Words says in a sentence who holds the key now.
func (l *Loaded) Words(key string) string {
	who := "The agent"
	if l.Holder {
		who = "The holder"
	}
	return fmt.Sprintf("%s keeps %s unlocked until %s.", who, key, l.Until.Format("15:04 on 2006-01-02"))
}

// chooseAgents finds the agents that ssh will ask, and settles that it does.
func chooseAgents(ctx context.Context, p site.Site, batch *workstation.Batch, load Loading, users []Use,
	loaded *Loaded) error {
	add := func(socket string) {
		if !slices.Contains(loaded.Sockets, socket) {
			loaded.Sockets = append(loaded.Sockets, socket)
		}
	}
	for _, u := range users {
		if !u.Ours {
			add(u.Socket)
			if err := hosts.DropHold(batch, p.Station, u.HostName); err != nil {
				return err
			}
			continue
		}
		hold := holdFor(p, load.Pair)
		if load.Keep { // in a dry run the desktop does not have it yet
			hold.Unlock = load.Pair.Path
		}
		if err := hosts.SettleHold(batch, p.Station, u.HostName, hold); err != nil {
			return err
		}
		add(p.Station.HolderSocket())
		loaded.Holder = true
	}
	if len(users) > 0 {
		return nil
	}
	passage, err := p.Prepare(ctx, address.Address{Scheme: "ssh", Host: "localhost"})
	if err != nil {
		return err
	}
	socket := passage.Client.Agent
	if err := passage.Close(); err != nil {
		return err
	}
	if socket == "" {
		return ErrNoAgent
	}
	add(socket)
	return nil
}

// Lend gives a key to an agent. The holder is started for it, and once more where it was
// just about to end.
func Lend(ctx context.Context, p site.Site, socket string, loan agent.Loan) error {
	if !p.Station.IsHolder(socket) {
		return speak(p, socket, func(conn *agent.Conn) error { return conn.Load(loan) })
	}
	var err error
	for range 3 {
		if p.StartHolder == nil {
			return fmt.Errorf("%w: the holder cannot be started from here", errors.ErrUnsupported)
		}
		if err = p.StartHolder(ctx); err != nil {
			return err
		}
		if err = speak(p, socket, func(conn *agent.Conn) error { return conn.Load(loan) }); err == nil {
			return nil
		}
	}
	return err
}

func speak(p site.Site, socket string, words func(*agent.Conn) error) error {
	open := agent.Open
	if p.Station.IsHolder(socket) {
		open = agent.OpenOwn
	}
	conn, err := open(socket)
	if err != nil {
		return err
	}
	return errors.Join(words(conn), conn.Close())
}

// A Use is how ssh would offer a key to a host.
type Use struct {
	HostName string
	Socket   string // of the agent that ssh would ask
	Offered  bool   // ssh would offer the key
	Ours     bool   // nothing names an agent, or our own settings do
}

// usesOf finds the hosts for which ssh would offer a key: of those that are described or
// that our settings name, and of the one given.
func usesOf(ctx context.Context, p site.Site, pair *sshkey.Pair, besides string) ([]Use, error) {
	var users []Use
	for _, name := range hostNames(p, besides) {
		u, err := UseOf(ctx, p, pair, name)
		if err != nil {
			return nil, err
		}
		if (u.Offered || name == besides) && (u.Ours || u.Socket != "") {
			users = append(users, u)
		}
	}
	return users, nil
}

// UseOf tells how ssh would offer a key to a host.
func UseOf(ctx context.Context, p site.Site, pair *sshkey.Pair, hostName string) (Use, error) {
	u := Use{HostName: hostName}
	passage, err := p.Prepare(ctx, address.Address{Scheme: "ssh", Host: hostName})
	if err != nil {
		return u, err
	}
	var key sshway.Key
	key, u.Offered = offers(passage, pair)
	u.Socket = passage.Client.Agent
	origin := passage.Client.Origin("identityagent")
	elsewhere := u.Offered && key.InAgent && !p.Station.IsHolder(u.Socket)
	u.Ours = (origin.String() == "" || hosts.Ours(p.Station, origin)) && !elsewhere
	return u, passage.Close()
}

// SetUse makes ssh offer a key to a host, and no other. A locked one is asked for once a day. The error is
// [declared.ErrBurned] for a key that the machine's administrator says is not to be used any more.
func SetUse(ctx context.Context, p site.Site, batch *workstation.Batch, hostName string, pair *sshkey.Pair) error {
	if err := Allowed(p.Station, pair); err != nil {
		return err
	}
	u, err := UseOf(ctx, p, pair, hostName)
	if err != nil {
		return err
	}
	if pair.Locked && u.Ours { // first, so that the key can be had once it is asked for
		if err := hosts.SettleHold(batch, p.Station, hostName, holdFor(p, pair)); err != nil {
			return err
		}
	}
	return hosts.Settle(batch, p.Station, hostName, hosts.UseKey(p.Station, pair.Path)...)
}

// Allowed says whether a key may be used on this machine; see [declared.ErrBurned] and [declared.ErrUnreadable].
func Allowed(station *workstation.Station, pair *sshkey.Pair) error {
	applied, err := declared.Read(station)
	if err != nil || pair.Public == nil {
		return err
	}
	return applied.Key(pair.Public)
}

func holdFor(p site.Site, pair *sshkey.Pair) hosts.Hold {
	hold := hosts.Hold{Program: p.Program}
	if PassphraseKept(p, pair) {
		hold.Unlock = pair.Path
	}
	return hold
}

// offers finds the pair among the keys that ssh would offer.
func offers(passage *sshway.Way, pair *sshkey.Pair) (sshway.Key, bool) {
	for _, key := range passage.Keys {
		if key.Path == pair.Path || (key.Public != nil && pair.Public != nil &&
			bytes.Equal(key.Public.Marshal(), pair.Public.Marshal())) {
			return key, true
		}
	}
	return sshway.Key{}, false
}

// hostNames lists the hosts that we know something about, by their names in clone URLs.
func hostNames(p site.Site, besides string) []string {
	var names []string
	for _, d := range p.Registry.All() {
		if d.HasSSH() {
			names = append(names, d.SSH.Host)
		}
	}
	text, err := regular.Read(hosts.OurFile(p.Station), regular.Settings)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		text = nil // ssh itself says what is wrong with it
	}
	names = append(names, hosts.Settled(text)...)
	if besides != "" {
		names = append(names, besides)
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// Unload takes a key out of the agents that ssh would ask for it, and returns those that
// held it.
func Unload(ctx context.Context, p site.Site, pair *sshkey.Pair) (sockets []string, err error) {
	users, err := usesOf(ctx, p, pair, "")
	if err != nil {
		return nil, err
	}
	asked := []string{p.Station.HolderSocket()}
	for _, u := range users {
		asked = append(asked, u.Socket)
	}
	passage, err := p.Prepare(ctx, address.Address{Scheme: "ssh", Host: "localhost"})
	if err != nil {
		return nil, err
	}
	asked = append(asked, passage.Client.Agent)
	if err := passage.Close(); err != nil {
		return nil, err
	}
	slices.Sort(asked)
	for _, socket := range slices.Compact(asked) {
		held, err := unloadFrom(p, socket, pair)
		if err != nil {
			return sockets, err
		}
		if held {
			sockets = append(sockets, socket)
		}
	}
	return sockets, nil
}

// unloadFrom takes a key out of one agent. One that does not answer holds nothing for ssh.
func unloadFrom(p site.Site, socket string, pair *sshkey.Pair) (held bool, err error) {
	if socket == "" || pair.Public == nil {
		return false, nil
	}
	conn, err := agent.Open(socket)
	if err != nil {
		return false, nil
	}
	for _, key := range conn.Keys {
		if bytes.Equal(key.Public.Marshal(), pair.Public.Marshal()) {
			return true, errors.Join(conn.Unload(pair.Public), conn.Close())
		}
	}
	return false, conn.Close()
}

// HoldOnly gives a key to the holder for a working day, and changes no settings.
func HoldOnly(ctx context.Context, p site.Site, pair *sshkey.Pair, passphrase secret.Text) error {
	private, err := pair.Raw(passphrase)
	if err != nil {
		return err
	}
	return Lend(ctx, p, p.Station.HolderSocket(), agent.Loan{Private: private, Comment: pair.Path,
		Lifetime: agent.WorkingDay})
}
