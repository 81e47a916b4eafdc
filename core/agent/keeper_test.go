package agent

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"net"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"anchorage.example/unicrux/core/lifetime"
)

func newKey(t *testing.T) (ed25519.PrivateKey, ssh.PublicKey) {
	t.Helper()
	_, private, err := ed25519.GenerateKey(nil)
	if err != nil {
		t.Fatal(err)
	}
	public, err := ssh.NewPublicKey(private.Public())
	if err != nil {
		t.Fatal(err)
	}
	return private, public
}

// clocks are those of a test, which are moved by hand.
type clocks struct {
	now time.Time
	up  time.Duration
}

func (c *clocks) clock() lifetime.Clock {
	return lifetime.Clock{Now: func() time.Time { return c.now }, Uptime: func() time.Duration { return c.up }}
}

func (c *clocks) pass(d time.Duration) { c.now, c.up = c.now.Add(d), c.up+d }

func morning() *clocks {
	return &clocks{time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC), time.Hour}
}

// client speaks to a keeper as any program does, on a connection of its own.
func client(t *testing.T, k *Keeper) agent.ExtendedAgent {
	t.Helper()
	here, there := net.Pipe()
	t.Cleanup(func() { _ = here.Close() })
	go k.Serve(there)
	return agent.NewClient(here)
}

// TestKeeperForgetsOnTime moves the clocks over the end of a key.
func TestKeeperForgetsOnTime(t *testing.T) {
	t.Parallel()
	for _, row := range []struct {
		name     string
		lifetime time.Duration // as it is asked for; 0 for none
		last     time.Duration // when it is still there
		back     bool          // the calendar is set back then
	}{
		{"as asked", 90 * time.Second, 89 * time.Second, false},
		{"a working day when nobody says", 0, WorkingDay - time.Second, false},
		{"the calendar is set back", 90 * time.Second, 89 * time.Second, true},
	} {
		time := morning()
		k := NewKeeper(time.clock(), nil)
		c := client(t, k)
		private, public := newKey(t)
		if err := c.Add(agent.AddedKey{PrivateKey: private, Comment: "mine",
			LifetimeSecs: uint32(row.lifetime.Seconds())}); err != nil {
			t.Fatal(err)
		}
		if time.pass(row.last); row.back {
			time.now = time.now.AddDate(-1, 0, 0)
		}
		if _, err := c.Sign(public, []byte("x")); err != nil {
			t.Errorf("%s: a second before the end: %v", row.name, err)
		}
		if k.Retire() {
			t.Errorf("%s: retired with a key in hand", row.name)
		}
		time.pass(2e9)
		if _, err := c.Sign(public, []byte("x")); err == nil {
			t.Errorf("%s: it signs after the end", row.name)
		}
		if list, err := c.List(); err != nil || len(list) != 0 {
			t.Errorf("%s: %d keys left, %v", row.name, len(list), err)
		}
		if !k.Retire() {
			t.Errorf("%s: it does not retire", row.name)
		}
		if err := c.Add(agent.AddedKey{PrivateKey: private}); err == nil {
			t.Errorf("%s: takes a key after retiring", row.name)
		}
	}
}

// TestKeeperRefusesWhatItCannotKeep must not hold a key more freely than was asked.
func TestKeeperRefusesWhatItCannotKeep(t *testing.T) {
	t.Parallel()
	private, _ := newKey(t)
	k := NewKeeper(lifetime.System(nil), nil)
	for name, key := range map[string]agent.AddedKey{
		"confirmation": {PrivateKey: private, ConfirmBeforeUse: true},
		"extension": {PrivateKey: private,
			ConstraintExtensions: []agent.ConstraintExtension{{ExtensionName: "restrict@x"}}},
		"no destination": {PrivateKey: private,
			ConstraintExtensions: []agent.ConstraintExtension{{ExtensionName: destinationConstraint}}},
		"half destination": {PrivateKey: private,
			ConstraintExtensions: []agent.ConstraintExtension{{ExtensionName: destinationConstraint,
				ExtensionDetails: []byte("\x00\x00\x00\x05abc")}}},
	} {
		if err := client(t, k).Add(key); err == nil {
			t.Errorf("%s: taken", name)
		}
	}
	if _, holds := k.Forget(); holds {
		t.Error("it holds a key that it refused")
	}
}

// TestKeeperReplaces gives the same key twice: the second lifetime counts.
func TestKeeperReplaces(t *testing.T) {
	t.Parallel()
	clock := morning()
	k := NewKeeper(clock.clock(), nil)
	c := client(t, k)
	private, public := newKey(t)
	for _, seconds := range []uint32{60, 3600} {
		if err := c.Add(agent.AddedKey{PrivateKey: private, LifetimeSecs: seconds}); err != nil {
			t.Fatal(err)
		}
	}
	clock.pass(30 * time.Minute)
	if left, holds := k.Forget(); !holds || left != 30*time.Minute {
		t.Errorf("%s left, %v", left, holds)
	}
	if err := c.Remove(public); err != nil {
		t.Fatal(err)
	}
	if _, holds := k.Forget(); holds {
		t.Error("still held")
	}
	if err := c.Remove(public); err == nil {
		t.Error("removed twice")
	}
}

// TestKeeperIsLocked answers as if it held nothing, forgets on time all the same, and opens by the
// passphrase alone.
func TestKeeperIsLocked(t *testing.T) {
	t.Parallel()
	clock := morning()
	k := NewKeeper(clock.clock(), nil)
	c := client(t, k)
	private, public := newKey(t)
	add := func() error { return c.Add(agent.AddedKey{PrivateKey: private, LifetimeSecs: 60}) }
	if err := errors.Join(add(), c.Lock([]byte("tide"))); err != nil {
		t.Fatal(err)
	}
	list, err := c.List()
	if _, signErr := c.Sign(public, []byte("x")); err != nil || len(list) != 0 || signErr == nil {
		t.Errorf("locked: %d keys, %v, signs: %v", len(list), err, signErr)
	}
	if add() == nil || c.Remove(public) == nil || c.Lock([]byte("x")) == nil || c.Unlock([]byte("ebb")) == nil {
		t.Error("it does something while it is locked")
	}
	if err := c.Unlock([]byte("tide")); err != nil {
		t.Fatal(err)
	}
	if _, err := c.Sign(public, []byte("x")); err != nil {
		t.Errorf("unlocked: %v", err)
	}
	if err := c.Lock(nil); err != nil {
		t.Fatal(err)
	}
	clock.pass(2 * time.Minute)
	if _, holds := k.Forget(); holds {
		t.Error("locked, it does not forget")
	}
	if c.Unlock(nil) != nil || c.Unlock(nil) == nil {
		t.Error("unlocking, once and twice")
	}
}

// TestKeeperAsksEachTime asks the person, and signs as they say.
func TestKeeperAsksEachTime(t *testing.T) {
	t.Parallel()
	allow, asked := false, ""
	k := NewKeeper(morning().clock(), func(question string) bool { asked = question; return allow })
	c := client(t, k)
	private, public := newKey(t)
	if err := c.Add(agent.AddedKey{PrivateKey: private, Comment: "mine", ConfirmBeforeUse: true}); err != nil {
		t.Fatal(err)
	}
	if _, err := c.Sign(public, []byte("x")); err == nil || !strings.Contains(asked, ssh.FingerprintSHA256(public)) ||
		!strings.Contains(asked, "mine") {
		t.Errorf("not allowed: %v, asked %q", err, asked)
	}
	allow = true
	if _, err := c.Sign(public, []byte("x")); err != nil {
		t.Errorf("allowed: %v", err)
	}
}

// A host is one on the way of a forwarded agent.
type host struct {
	private ed25519.PrivateKey
	public  ssh.PublicKey
}

func newHost(t *testing.T) host {
	private, public := newKey(t)
	return host{private, public}
}

// bind says for which connection a client asks, as ssh does.
func (h host) bind(t *testing.T, c agent.ExtendedAgent, session string, forwarded bool) error {
	t.Helper()
	signer, err := ssh.NewSignerFromKey(h.private)
	if err != nil {
		t.Fatal(err)
	}
	signature, err := signer.Sign(rand.Reader, []byte(session))
	if err != nil {
		t.Fatal(err)
	}
	_, err = c.Extension(bindExtension, ssh.Marshal(struct {
		HostKey, Session, Signature []byte
		Forwarded                   bool
	}{h.public.Marshal(), []byte(session), ssh.Marshal(signature), forwarded}))
	return err
}

// TestForwardedMayOnlySign plays a program on another computer, to which the agent is lent: it lists
// and signs, and can do nothing else.
func TestForwardedMayOnlySign(t *testing.T) {
	t.Parallel()
	private, public := newKey(t)
	other, _ := newKey(t)
	for name, lend := range map[string]func(c agent.ExtendedAgent) error{
		"lent": func(c agent.ExtendedAgent) error { return newHost(t).bind(t, c, "one", true) },
		"lent on": func(c agent.ExtendedAgent) error {
			return errors.Join(newHost(t).bind(t, c, "one", true), newHost(t).bind(t, c, "two", true))
		},
		"signing in there": func(c agent.ExtendedAgent) error {
			return errors.Join(newHost(t).bind(t, c, "one", true), newHost(t).bind(t, c, "two", false))
		},
		"a false signature": func(c agent.ExtendedAgent) error {
			h := newHost(t)
			h.private = other
			_ = h.bind(t, c, "one", false)
			return nil
		},
		"no binding at all": func(c agent.ExtendedAgent) error {
			_,
				_ = c.Extension(bindExtension, []byte("x"))
			return nil
		},
	} {
		k := NewKeeper(morning().clock(), nil)
		if err := client(t, k).Add(agent.AddedKey{PrivateKey: private}); err != nil {
			t.Fatal(err)
		}
		c := client(t, k)
		if err := lend(c); err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		if list, err := c.List(); err != nil || len(list) != 1 {
			t.Errorf("%s: lists %d, %v", name, len(list), err)
		}
		if _, err := c.Sign(public, []byte("x")); err != nil {
			t.Errorf("%s: signs: %v", name, err)
		}
		_, holdings := c.Extension(holdingsQuestion, nil)
		for what, err := range map[string]error{"adds a key": c.Add(agent.AddedKey{PrivateKey: other}),
			"removes one": c.Remove(public), "removes all": c.RemoveAll(),
			"locks": c.Lock([]byte("x")), "unlocks": c.Unlock([]byte("x")), "asks until when": holdings} {
			if err == nil {
				t.Errorf("%s: it %s", name, what)
			}
		}
		if list, err := client(t, k).List(); err != nil || len(list) != 1 {
			t.Errorf("%s: afterwards %d, %v", name, len(list), err)
		}
	}
}

// destinations writes the constraint as OpenSSH's key loader does: each from (nil for here), to, user.
func destinations(steps ...[]any) []byte {
	hop := func(h any, user string) []byte {
		name, keys := "", []byte(nil)
		if h, ok := h.(host); ok {
			name, keys = "host", ssh.Marshal(struct {
				Blob      []byte
				Authority bool
			}{h.public.Marshal(), false})
		}
		return ssh.Marshal(struct {
			User, Host string
			Reserved   []byte
			Keys       []byte `ssh:"rest"`
		}{user, name, nil, keys})
	}
	var text []byte
	for _, step := range steps {
		one := ssh.Marshal(struct{ From, To, Reserved []byte }{hop(step[0], ""), hop(step[1], step[2].(string)), nil})
		text = append(text, ssh.Marshal(struct{ One []byte }{one})...)
	}
	return text
}

// signIn is what ssh lets an agent sign to sign in by a key.
func signIn(session, user string, key ssh.PublicKey, hostKey ssh.PublicKey) []byte {
	method, rest := "publickey", []byte(nil)
	if hostKey != nil {
		method, rest = hostBound, ssh.Marshal(struct{ Key []byte }{hostKey.Marshal()})
	}
	return append(ssh.Marshal(struct{ Session string }{session}), append([]byte{50}, ssh.Marshal(struct {
		User, Service, Method string
		Signed                bool
		Algorithm             string
		Key                   []byte
		Rest                  []byte `ssh:"rest"`
	}{user, "ssh-connection", method, true, key.Type(), key.Marshal(), rest})...)...)
}

// TestDestinations holds a key that is for one host, and through it for another: seen and used on
// that way alone.
func TestDestinations(t *testing.T) {
	t.Parallel()
	private, public := newKey(t)
	first, second, elsewhere := newHost(t), newHost(t), newHost(t)
	k := NewKeeper(morning().clock(), nil)
	constraint := agent.ConstraintExtension{ExtensionName: destinationConstraint,
		ExtensionDetails: destinations([]any{nil, first, "git"}, []any{first, second, ""})}
	if err := client(t, k).Add(agent.AddedKey{PrivateKey: private,
		ConstraintExtensions: []agent.ConstraintExtension{constraint}}); err != nil {
		t.Fatal(err)
	}
	type step struct {
		host      host
		session   string
		forwarded bool
	}
	for _, row := range []struct {
		name        string
		way         []step
		data        []byte
		seen, signs bool
	}{
		{"from here, to nowhere yet", nil, []byte("x"), true, false},
		{"from here, without saying where", nil, signIn("a", "git", public, nil), true, false},
		{"to its host", []step{{first, "a", false}}, signIn("a", "git", public, nil), true, true},
		{"to its host, bound", []step{{first, "a", false}}, signIn("a", "git", public, first.public), true, true},
		{"as another user", []step{{first, "a", false}}, signIn("a", "lab", public, nil), true, false},
		{"in another session", []step{{first, "a", false}}, signIn("b", "git", public, nil), true, false},
		{"something else than signing in", []step{{first, "a", false}}, []byte("a letter"), true, false},
		{"bound to another host", []step{{first, "a", false}}, signIn("a", "git", public, second.public), true, false},
		{"to another host", []step{{elsewhere, "a", false}}, signIn("a", "git", public, nil), false, false},
		{"to the second at once", []step{{second, "a", false}}, signIn("a", "git", public, nil), false, false},
		{"lent to its host", []step{{first, "a", true}}, signIn("a", "git", public, nil), true, false},
		{"through it to the second", []step{{first, "a", true}, {second, "b", false}},
			signIn("b", "me", public, second.public), true, true},
		{"through it, not bound", []step{{first, "a", true}, {second, "b", false}},
			signIn("b", "me", public, nil), true, false},
		{"through it elsewhere", []step{{first, "a", true}, {elsewhere, "b", false}},
			signIn("b", "me", public, elsewhere.public), false, false},
		{"lent to the second", []step{{first, "a", true}, {second, "b", true}},
			signIn("b", "me", public, second.public), false, false},
	} {
		c := client(t, k)
		for _, s := range row.way {
			if err := s.host.bind(t, c, s.session, s.forwarded); err != nil {
				t.Fatalf("%s: %v", row.name, err)
			}
		}
		list, err := c.List()
		if err != nil || (len(list) == 1) != row.seen {
			t.Errorf("%s: sees %d keys, %v", row.name, len(list), err)
		}
		if _, err := c.Sign(public, row.data); (err == nil) != row.signs {
			t.Errorf("%s: signs: %v", row.name, err)
		}
	}
}

// FuzzDestinations reads anything as a constraint: what is taken has a host and a key to go to.
func FuzzDestinations(f *testing.F) {
	f.Add([]byte("\x00\x00\x00\x05abc"))
	f.Add(bytes.Repeat([]byte{0}, 40))
	f.Fuzz(func(t *testing.T, text []byte) {
		list, err := readDestinations(agent.ConstraintExtension{ExtensionName: destinationConstraint,
			ExtensionDetails: text})
		for _, d := range list {
			if d.to.host == "" || len(d.to.keys) == 0 {
				t.Errorf("%q: %+v", text, d)
			}
		}
		if (err == nil) != (len(list) > 0) {
			t.Errorf("%q: %d, %v", text, len(list), err)
		}
	})
}
