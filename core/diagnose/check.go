package diagnose

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net/url"
	"strconv"
	"time"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/knownhosts"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/core/sshconfig"
	"anchorage.example/unicrux/core/sshway"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/core/wire"
	"anchorage.example/unicrux/core/workstation"
)

// A Request says what to check.
type Request struct {
	Argument string  // a clone URL, a remote's name or a host; empty for what a plain push would use
	Purpose  Purpose // empty: clone for a URL or a host, push for a remote
	Account  string  // the account that is needed; empty for any
	Timeout  time.Duration
	Ask      sshway.Asker // asks for a passphrase
	Program  Program      // empty: what the folder and the URL tell
	Into     string       // the folder, absolute, that a clone goes into; empty for the one that git would make
	ByHTTPS  bool         // Argument is a described host, and asked about over HTTPS

	Sent *Sent // what is sent over HTTPS, in place of what git's helpers answer; nil to ask them

	RunCommands bool // let the commands run on which ssh's settings depend, as ssh does

	AsIs    bool               // the URL is as git has rewritten it: its rules do not hold any more
	Options []sshconfig.Option // of ssh's command line, which win over all files

	second bool // nothing further is tried
}

// ErrTransport is returned for a question that cannot be answered.
var ErrTransport = errors.New("the way over this transport cannot be checked, only those over SSH and HTTPS")

// A LocalError is an [ErrLocal] that says which folder it is.
type LocalError struct{ Path string }

func (e *LocalError) Error() string { return fmt.Sprintf("%s: %v", untrusted.Clean(e.Path), ErrLocal) }

// Unwrap returns [ErrLocal].
func (e *LocalError) Unwrap() error { return ErrLocal }

// ErrLocal is returned for a folder on this computer, to which no way leads.
var ErrLocal = errors.New("a folder on this computer, where nobody has to sign in")

// A checker goes one way.
type checker struct {
	station    *workstation.Station
	registry   *hosts.Registry
	request    Request
	config     *gitlink.Config
	hg         *gitlink.Mercurial // nil where git goes the way
	way        *Way
	address    address.Address
	host       *describe.Description // nil when the host is not described
	passage    *sshway.Way
	verdict    knownhosts.Verdict
	by         *knownhosts.Entry
	suspicions []suspicion
	jumpMends  []Mend        // of the jump host where the way breaks
	dry        func() dryRun // what the ssh client says itself
	keptBy     []Evidence    // the setting that keeps some of the passage's kept keys back
	given      string        // the URL before rewriting
	rule       *address.Rule // that rewrote it; nil for none

	// For a way over HTTPS.
	base      *url.URL // of the repository; nil for a way over SSH
	alone     bool     // the host is asked about, and no repository: base is where they would be
	web       *gitlink.Web
	own       *tls.Certificate // that settings name; nil for none
	roots     []byte           // certificates that git trusts; nil for the system's
	more      []byte           // and those that it trusts beside them
	webUser   string           // that stands in the URL
	webSecret secret.Text
	sent      gitlink.Credential
	sentFrom  string // where the secret stands, where it is not one of git's helpers
	moved     string // the URL that a redirect led from; empty for none
	crossed   bool   // a redirect led to another origin
	webHeads  map[string]string
}

// Check goes the way and returns what it found: of a push that goes to several URLs the first that is not
// open. An error means that the question could not be asked, not that the way is broken.
func Check(ctx context.Context, station *workstation.Station, registry *hosts.Registry, request Request) (*Way, error) {
	c := &checker{station: station, registry: registry, request: request, way: newWay()}
	way, err := c.check(ctx)
	if err != nil || !way.IsOpen() || c.hg != nil || way.Question.Remote == "" || way.Question.Purpose != Push {
		return way, err
	}
	urls, own := c.config.PushURLs(way.Question.Remote)
	for i, url := range urls {
		if i == 0 {
			continue
		}
		request.Purpose, request.AsIs = Push, true
		request.Argument, _ = address.Rewrite(url.Value, c.config.Rules(), true, own)
		other := &checker{station: station, registry: registry, request: request, way: newWay()}
		found, err := other.check(ctx)
		if err != nil {
			return nil, err
		}
		found.Question.Remote = way.Question.Remote
		found.fact(Address, "remote", fmt.Sprintf("%s, number %d of the %d URLs to which a push goes", way.Question.Remote, i+1, len(urls)), station.Tilde(url.Origin))
		if !found.IsOpen() {
			return found, nil
		}
	}
	return way, nil
}

func (c *checker) check(ctx context.Context) (*Way, error) {
	defer func() {
		if c.passage != nil {
			_ = c.passage.Close() // nothing of the agent's is ours to lose
		}
	}()
	for _, stage := range []struct {
		ssh, web func(context.Context) (*Crux, error)
	}{{c.locate, nil}, {c.settle, c.settleWeb}, {c.travel, c.travelWeb}} {
		if c.way.stage(Permission).State == Open {
			return c.way, nil
		}
		pass := stage.ssh
		if c.base != nil {
			pass = stage.web
		}
		crux, err := pass(ctx)
		if err != nil {
			return nil, err
		}
		if crux != nil {
			crux = c.closer(ctx, crux)
			c.way.breakAt(crux)
			c.way.Mends = c.mends(crux)
			return c.way, nil
		}
	}
	if c.base != nil {
		c.webNotes()
	} else {
		c.notes()
	}
	return c.way, nil
}

// crux makes a crux of a code of the catalogue.
func crux(code Code, certainty Certainty, evidence ...Evidence) *Crux {
	return &Crux{Code: code, Stage: StageOf(code), Summary: Summary(code), Evidence: evidence, Certainty: certainty}
}

// settle passes the stage of settings: what would git's ssh do for this address?
func (c *checker) settle(ctx context.Context) (*Crux, error) {
	start := time.Now()
	if crux := c.programs(); crux != nil {
		return crux, nil
	}
	var err error
	if c.passage, err = sshway.PrepareWith(ctx, c.station, c.ssh(), c.address, sshway.Leave{Options: c.request.Options, RunCommands: c.request.RunCommands}); err != nil {
		return nil, err
	}
	c.dry = func() dryRun { return dryRun{} }
	if len(c.passage.Settings.Problems) == 0 {
		c.startDryRun(ctx)
	}
	if !c.passage.Command.Clear && c.hg == nil {
		if err := c.underneath(); err != nil {
			return nil, err
		}
	}
	for _, refused := range []func(context.Context) *Crux{c.refusedSettings, c.unlisted, c.brokenCommand, c.otherProgramThanSSH, c.hindrance, c.holdBack} {
		if crux := refused(ctx); crux != nil {
			return crux, nil
		}
	}
	c.way.Question.User, c.way.HostName = c.passage.Client.User, c.address.Host
	_, worthy := c.worthyKey()
	c.way.KeyAtHand, c.way.KeyWeak = len(c.offered()) > 0, !worthy
	c.way.HostKnown = len(c.passage.Known.Keys) > 0
	c.settingFacts()
	c.suspect()
	c.way.open(Settings, time.Since(start))
	return nil, nil
}

// travel goes over the network, once.
func (c *checker) travel(ctx context.Context) (*Crux, error) {
	plan := c.plan()
	plan.Offers = sshway.Offers(c.passage.Keys, c.request.Ask)
	trip, err := wire.GoSSH(ctx, plan)
	if refused := c.refusedByClient(); refused != nil {
		return refused, nil
	}
	c.way.Trip = trip
	c.passed(trip)
	if trip.SignedIn {
		if wrong := c.wrongAccount(ctx, trip); wrong != nil {
			return wrong, nil
		}
	}
	if err == nil {
		if closed := c.readOnlyFiles(trip); closed != nil {
			return closed, nil
		}
		return c.beyond(ctx), nil
	}
	var failure *wire.Failure
	if !errors.As(err, &failure) {
		return nil, err
	}
	return c.explain(ctx, failure, trip), nil
}

// plan is the plan of the trip, without any key to offer.
func (c *checker) plan() wire.Plan {
	plan := c.passage.Plan(c.judge, c.request.Timeout)
	c.limit(&plan)
	if c.hg != nil {
		c.planHg(&plan)
	} else if c.way.Question.Repo != "" {
		plan.Path, plan.Service = c.address.Path, c.service()
		if c.way.Question.Purpose == Push {
			plan.Instead = "git-upload-pack"
		}
		plan.Exists = c.host == nil // a described host says what is the matter in its own words
		plan.Writing = c.host == nil && c.way.Question.Purpose == Push
	}
	plan.Greeting = c.host != nil && c.host.SSH.Greeting != ""
	return plan
}

// service is the program at the host that git would ask for.
func (c *checker) service() string {
	if c.way.Question.Purpose == Push {
		return "git-receive-pack"
	}
	return "git-upload-pack"
}

func (c *checker) judge(key ssh.PublicKey) error {
	verdict, by, ok := c.passage.Judge(key)
	c.verdict, c.by = verdict, by
	if !ok {
		return fmt.Errorf("verdict %d", verdict)
	}
	return nil
}

// passed notes the stages that the trip passed, with their facts.
func (c *checker) passed(trip *wire.Trip) {
	w := c.way
	if trip.Silent != "" {
		c.note("address-silent")
		w.fact(Reach, "no answer", trip.Silent, "")
	}
	if trip.Connected != "" {
		w.fact(Reach, "connected", trip.Connected, "")
	}
	if trip.Server != "" {
		w.fact(Reach, "server", untrusted.Clean(trip.Server), "")
	}
	if trip.HostKey != nil {
		w.open(Reach, trip.Times[wire.AtName]+trip.Times[wire.AtConnect]+trip.Times[wire.AtSpeak])
		origin := ""
		if c.by != nil {
			origin = c.station.Tilde(c.by.Origin())
		}
		w.fact(Trust, "host key", trip.HostKey.Type()+" "+ssh.FingerprintSHA256(trip.HostKey), origin)
	}
	if trip.SignedIn {
		w.open(Trust, trip.Times[wire.AtTrust])
		w.open(SignIn, trip.Times[wire.AtSignIn])
		c.signedIn(trip)
	}
	if w.Question.Repo == "" {
		w.stage(Repository).State, w.stage(Permission).State = Skipped, Skipped
		return
	}
	c.served(trip.Answer.Open, trip.Instead.Open, max(trip.Answer.Refs, trip.Instead.Refs), trip.Times[wire.AtService], trip.Writable)
}

// served notes what the host opened: the service that was asked for, or the one for reading in its place.
func (c *checker) served(asked, instead bool, refs int, took time.Duration, writable wire.Ternary) {
	w := c.way
	if asked || instead {
		w.open(Repository, took)
		if c.hg == nil {
			w.fact(Repository, "refs", strconv.Itoa(refs), "")
		}
	}
	switch {
	case !asked:
	case c.hg != nil:
		c.hgPermission(writable)
	default:
		w.open(Permission, 0)
		w.fact(Permission, string(w.Question.Purpose), "the host answers "+c.service(), "")
		if w.Question.Purpose == Push && c.host == nil {
			c.tellWriting(writable)
		}
	}
}

func (c *checker) signedIn(trip *wire.Trip) {
	if c.way.KeyProved = trip.With >= 0; c.way.KeyProved {
		key := c.offered()[trip.With]
		c.way.Key = key.Name
		if key.Locked {
			c.way.Unlocked = key.Path
		}
		c.way.fact(SignIn, "key", key.Name+" "+ssh.FingerprintSHA256(key.Public), c.origin(key.Origin))
	} else {
		c.way.fact(SignIn, "key", "none was asked for", "")
	}
	if c.host != nil {
		c.way.Account = untrusted.Clean(c.host.Account(trip.Greeting))
	}
	if c.way.Account != "" {
		c.way.fact(SignIn, "account", c.way.Account, "the host's greeting")
	}
}

// offered lists the keys in the order of the offers: those whose public half is known.
func (c *checker) offered() []sshway.Key {
	var keys []sshway.Key
	for _, key := range c.passage.Keys {
		if key.Public != nil {
			keys = append(keys, key)
		}
	}
	return keys
}
