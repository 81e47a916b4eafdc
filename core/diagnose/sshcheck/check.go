package sshcheck

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/diagnose/localcheck"
	"anchorage.example/unicrux/core/diagnose/seen"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/knownhosts"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/sshway"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/core/wire"
)

// Settled is what git's ssh would do for an address. Close it when the way was gone: it holds the agent.
type Settled struct {
	localcheck.Located
	Passage *sshway.Way  // nil where nothing could be settled
	Keys    []sshway.Key // to be offered, in order
	Kept    []sshway.Key // the others, which settings keep back
	Tried   bool         // git itself went the way, and it is open: nothing is left to be tried

	keptBy     []finding.Evidence // the setting that does, where it is one of those that look at the keys themselves
	unfit      []string           // the files of the keys that it keeps back
	client     func() dryRun      // what the ssh client itself says
	suspicions []finding.Suspicion
}

// Close lets go of the agent.
func (s Settled) Close() {
	if s.Passage != nil {
		_ = s.Passage.Close() // nothing of the agent's is ours to lose
	}
}

// KnownHosts are the files in which ssh looks for the host's key.
func (s Settled) KnownHosts() []string {
	if s.Passage == nil {
		return nil
	}
	return append(append([]string{}, s.Passage.Client.KnownHosts...), s.Passage.Client.SystemHosts...)
}

// AtHand reports whether there is a key to offer, and whether it is strong enough to be registered anew.
func (s Settled) AtHand() (any, worthy bool) {
	_, worthy = s.worthyKey()
	return len(s.offered()) > 0, worthy
}

// Settle passes the stage of settings: what would git's ssh do for this address? Where nothing can be settled, or ssh
// would stop, it returns the crux.
func Settle(ctx context.Context, l localcheck.Located) (s Settled, part finding.Part, crux *finding.Crux, err error) {
	start := time.Now()
	s = Settled{Located: l, client: func() dryRun { return dryRun{} }}
	if crux := s.programs(); crux != nil {
		return s, part, crux, nil
	}
	leave := sshway.Leave{Options: l.Request.Options, RunCommands: l.Request.RunCommands,
		Assume: l.Request.Assume}
	if s.Passage, err = sshway.PrepareWith(ctx, l.Station, l.SSH(), l.Address, leave); err != nil {
		return s, part, nil, err
	}
	if len(s.Passage.Settings.Problems) == 0 {
		s.client = s.startDryRun(ctx)
	}
	if !s.Passage.Command.Clear && l.Hg == nil {
		if s, err = s.underneath(); err != nil {
			return s, part, nil, err
		}
	}
	s.Keys, s.Kept = s.Passage.Keys, s.Passage.Kept
	if crux := s.stops(); crux != nil {
		return s, part, crux, nil
	}
	if s.bySomethingElse() {
		if crux := s.letGitTry(ctx); crux != nil {
			return s, part, crux, nil
		}
		s.Tried, part = true, s.gitPassed()
		part.Open(causes.Settings, time.Since(start))
		return s, part, nil, nil
	}
	if crux := s.hindrance(); crux != nil {
		return s, part, crux, nil
	}
	s = s.holdBack()
	s.Question.User = s.Passage.Client.User
	s.suspicions = s.suspect()
	part.Facts = s.settingFacts()
	part.Open(causes.Settings, time.Since(start))
	return s, part, nil, nil
}

// stops is the crux where ssh would stop before it goes to any host.
func (s Settled) stops() *finding.Crux {
	for _, refused := range []func(Settled) *finding.Crux{Settled.refusedSettings, Settled.unlisted,
		Settled.brokenCommand} {
		if crux := refused(s); crux != nil {
			return crux
		}
	}
	return nil
}

// underneath settles the way once more where git starts another program than ssh, by what that program says that
// it would do: many are a line or two around ssh, and what they add to its options is known only so.
func (s Settled) underneath() (Settled, error) {
	command := s.Passage.Command
	line, told := fromClient(s.client().output, command)
	if !told {
		return s, nil
	}
	if err := s.Passage.Close(); err != nil {
		return s, err
	}
	command.Line, command.Clear = line, true
	var err error
	s.Passage, err = sshway.Prepare(s.Station, command, s.Address)
	return s, err
}

func (s Settled) settingFacts() []finding.StageFact {
	var part finding.Part
	client := s.Passage.Client
	add := func(name, value, keyword string) {
		part.Fact(causes.Settings, name, value, s.Origin(client.Origin(keyword)))
	}
	if s.Hg != nil {
		part.Fact(causes.Settings, "program", "hg", "")
	}
	if s.Passage.Command.Origin != "" {
		part.Fact(causes.Settings, "ssh program", untrusted.Clean(s.Passage.Command.Program),
			s.Station.Tilde(s.Passage.Command.Origin))
	}
	add("host name", client.HostName, "hostname")
	add("port", fmt.Sprint(client.Port), "port")
	add("user", untrusted.Clean(client.User), "user")
	if client.ProxyCommand != "" {
		add("through", untrusted.Clean(client.ProxyCommand), "proxycommand")
	}
	if client.ProxyJump != "" {
		add("through", untrusted.Clean(client.ProxyJump), "proxyjump")
	}
	if s.Host != nil && s.Host.ForAccount != "" {
		part.Fact(causes.Settings, "account", s.Host.ForAccount+", because of the folder",
			s.Station.Tilde(hosts.OurGitFile(s.Station)))
	}
	for _, key := range s.Keys {
		part.Fact(causes.Settings, "key", describeKey(key), s.Origin(key.Origin))
	}
	for _, unknown := range s.Passage.Settings.Unknown {
		part.Fact(causes.Settings, "not asked", "Match "+untrusted.Clean(strings.Join(unknown.Args, " ")),
			s.Origin(unknown.Origin))
	}
	return part.Facts
}

// Travelled is what came of going to the host.
type Travelled struct {
	Settled
	Trip     *wire.Trip
	Account  string // as the host names it; empty when it does not
	Key      string // the name of the key that signed in
	Unlocked string // the path of that key, when its passphrase had to be asked for it
	Proved   bool   // the host accepted one of our keys

	judgement
}

// A judgement is how ssh would take the key of the host.
type judgement struct {
	verdict knownhosts.Verdict
	by      *knownhosts.Entry // the line that decides; nil for none
}

// Travel goes over the network, once. It returns the crux where the way is not open.
func Travel(ctx context.Context, s Settled) (t Travelled, part finding.Part, crux *finding.Crux, err error) {
	t = Travelled{Settled: s}
	plan := s.plan(func(found judgement) { t.judgement = found })
	plan.Offers = sshway.Offers(s.Keys, s.Request.Ask)
	trip, err := wire.GoSSH(ctx, plan)
	if refused := s.refusedByClient(); refused != nil {
		return t, part, refused, nil
	}
	if t.Trip = trip; trip.SignedIn {
		t = t.signedIn()
	}
	part = t.passed()
	if trip.SignedIn {
		if wrong := t.wrongAccount(ctx); wrong != nil {
			return t, part, wrong, nil
		}
		if shut := t.turnedAway(); shut != nil {
			return t, part, shut, nil
		}
	}
	if err == nil {
		return t, part, t.readOnlyFiles(), nil
	}
	var failure *wire.Failure
	if !errors.As(err, &failure) {
		return t, part, nil, err
	}
	return t, part, t.explain(ctx, failure), nil
}

// plan is the plan of a trip, without any key to offer. told gets how ssh would take the host's key.
func (s Settled) plan(told func(judgement)) wire.Plan {
	plan := s.Passage.Plan(func(key ssh.PublicKey) error {
		verdict, by, ok := s.Passage.Judge(key)
		if told(judgement{verdict, by}); !ok {
			return fmt.Errorf("verdict %d", verdict)
		}
		return nil
	}, s.Request.Timeout)
	plan.Ciphers, plan.MACs, plan.Exchanges = s.limits()
	if s.Hg != nil {
		plan = s.forHg(plan)
	} else if s.Question.Repo != "" {
		plan.Path, plan.Service = s.Address.Path, s.Service()
		if s.Question.Purpose == finding.Push {
			plan.Instead = "git-upload-pack"
		}
		plan.Exists = s.Undescribed() // a described host says what is the matter in its own words
		plan.Writing = s.Undescribed() && s.Question.Purpose == finding.Push
	}
	plan.Greeting = s.Host != nil && s.Host.SSH.Greeting != "" || s.Undescribed() && s.Question.Repo == ""
	return plan
}

// signedIn adds who signed in.
func (t Travelled) signedIn() Travelled {
	if t.Proved = t.Trip.With >= 0; t.Proved {
		key := t.offered()[t.Trip.With]
		if t.Key = key.Name; key.Locked {
			t.Unlocked = key.Path
		}
	}
	if t.Host != nil {
		t.Account = untrusted.Clean(t.Host.Account(t.Trip.Greeting))
	}
	return t
}

// turnedAway is the crux where a host lets nobody in although it knows the key: its shell ends with words that say why.
func (t Travelled) turnedAway() *finding.Crux {
	if !t.Undescribed() || t.Trip.GreetingExit == 0 {
		return nil
	}
	said := causes.Hear(t.Trip.Greeting, causes.SignIn, causes.Permission)
	if said.IsZero() || said == causes.NoShell {
		return nil
	}
	found := finding.New(said, finding.Likely, finding.Saw(seen.SignedInAs, t.nameAccount(t.Account, t.Key), ""),
		finding.Saw(seen.HostSays, untrusted.Quote(untrusted.Clean(t.Trip.Greeting)), ""))
	found.Stage = causes.SignIn
	return found
}

// passed are the stages that the trip passed, with their facts.
func (t Travelled) passed() finding.Part {
	var part finding.Part
	trip := t.Trip
	part.Connected(trip.Silent, trip.Connected, t.Address.Host)
	if trip.Server != "" {
		part.Fact(causes.Reach, "server", untrusted.Clean(trip.Server), "")
	}
	if trip.HostKey != nil {
		part.Open(causes.Reach, trip.Times[wire.AtName]+trip.Times[wire.AtConnect]+trip.Times[wire.AtSpeak])
		origin := ""
		if t.by != nil {
			origin = t.Station.Tilde(t.by.Origin())
		}
		part.Fact(causes.Trust, "host key", trip.HostKey.Type()+" "+sshkey.Fingerprint(trip.HostKey), origin)
	}
	if trip.SignedIn {
		part.Open(causes.Trust, trip.Times[wire.AtTrust])
		part.Open(causes.SignIn, trip.Times[wire.AtSignIn])
		part.Facts = append(part.Facts, t.signInFacts()...)
	}
	if t.Question.Repo == "" {
		part.Skip(causes.Repository, causes.Permission)
		return part
	}
	part.Add(t.served())
	return part
}

func (t Travelled) signInFacts() []finding.StageFact {
	var part finding.Part
	if t.Proved {
		key := t.offered()[t.Trip.With]
		part.Fact(causes.SignIn, "key", key.Name+" "+sshkey.Fingerprint(key.Public), t.Origin(key.Origin))
	} else {
		part.Fact(causes.SignIn, "key", "none was asked for", "")
	}
	if t.Account != "" {
		part.Fact(causes.SignIn, "account", t.Account, "the host's greeting")
	}
	return part.Facts
}

// served is what the host opened: the service that was asked for, or the one for reading in its place.
func (t Travelled) served() finding.Part {
	var part finding.Part
	if answer, instead := t.Trip.Answer, t.Trip.Instead; answer.Open || instead.Open {
		part.Served(t.Trip.Times[wire.AtService], t.Program(), max(answer.Refs, instead.Refs))
	}
	if t.Trip.Answer.Open {
		part.Add(t.permission())
	}
	return part
}
