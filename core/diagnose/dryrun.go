package diagnose

import (
	"context"
	"errors"
	"os"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/lazyregexp"
	"anchorage.example/unicrux/core/sshconfig"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/sshway"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/core/wire"
)

// A dryRun is what the ssh client itself says that it would do (-G in ssh(1)). It connects to nobody
// then.
type dryRun struct {
	settled map[string]string // by keyword
	output  string            // all of that
	said    string            // all that it wrote, where it failed
	failed  bool
	missing bool // it is not there, or cannot be run
	stuck   bool // it did not end in time
}

// startDryRun asks the ssh client while we go on: it knows its own settings best. It is not asked
// where that would run a command of the settings (Match exec in ssh_config(5)), nor a second time.
func (c *checker) startDryRun(ctx context.Context) {
	command := c.passage.Command
	runs := slices.ContainsFunc(c.passage.Settings.Unknown, func(u sshconfig.Value) bool { return slices.Contains(u.Args, "exec") })
	if command.Clear && (c.request.second || runs) { // git itself asks only programs that it does not know
		return
	}
	done := make(chan dryRun, 1)
	go func() { done <- c.goDry(ctx, command) }()
	c.dry = func() dryRun {
		answer := <-done
		done <- answer
		return answer
	}
}

func (c *checker) goDry(ctx context.Context, command gitlink.SSHCommand) dryRun {
	if strings.TrimSpace(command.Program) == "" {
		return dryRun{failed: true, missing: true}
	}
	ctx, cancel := context.WithTimeout(ctx, min(c.timeout(), patience))
	defer cancel()
	args, options := []string{"-G"}, c.request.Options
	if command.Text == "" { // what stands in it is not there for the shell to read
		line := command.Query(c.address, c.station).Command
		if options = append(line.Options, options...); line.Config != "" {
			args = append(args, "-F", line.Config)
		}
	}
	for _, option := range options {
		args = append(args, "-o", option.Keyword+" "+strings.Join(option.Args, " "))
	}
	host := c.address.Host
	if command.Text != "" && c.hg == nil { // as git names them
		if c.address.Port != 0 {
			args = append(args, "-p", strconv.Itoa(int(c.address.Port)))
		}
		if c.address.User != "" {
			host = c.address.User + "@" + host
		}
	}
	args = append(args, host)
	run := exec.CommandContext(ctx, command.Program, args...)
	if command.Text != "" {
		run = exec.CommandContext(ctx, "sh", append([]string{"-c", command.Text + ` "$@"`, command.Text}, args...)...)
	}
	run.Dir, run.Env, run.WaitDelay = c.station.Dir(), c.station.Environ, time.Second
	words, err := run.CombinedOutput()
	var exit *exec.ExitError
	if err == nil || (!errors.As(err, &exit) && ctx.Err() == nil && !errors.Is(err, os.ErrPermission)) {
		return dryRun{settled: keywords(string(words)), output: string(words)}
	}
	return dryRun{failed: true, said: untrusted.Clean(mask(string(words))), stuck: ctx.Err() != nil,
		missing: exit != nil && (exit.ExitCode() == 126 || exit.ExitCode() == 127)}
}

func keywords(text string) map[string]string {
	settled := map[string]string{}
	for line := range strings.Lines(text) {
		keyword, value, _ := strings.Cut(strings.TrimSpace(line), " ")
		settled[keyword] = value
	}
	return settled
}

// complains is how the ssh client names a line that it does not take.
var complains = lazyregexp.Late(`(?i)^(\S.*?) line (\d+): +(.*?)( \S+: terminating.*)?$`)

// refusedByClient names the line for which the ssh client itself stops, where we did not see it.
func (c *checker) refusedByClient() *Crux {
	answer := c.dry()
	if !answer.failed || !says(answer.said, `\bline \d+: |bad configuration option`) {
		return nil
	}
	if parts := complains().FindStringSubmatch(answer.said); parts != nil {
		return crux("ssh-config-broken", Proved, Evidence{"where", c.station.Tilde(parts[1]) + ":" + parts[2], ""}, Evidence{"ssh says", untrusted.Quote(parts[3]), ""})
	}
	return crux("ssh-config-broken", Proved, Evidence{"ssh says", untrusted.Quote(answer.said), ""})
}

// brokenCommand tells of an ssh program that settings name and that does not do what git needs
// (ssh.variant in git-config(1)).
func (c *checker) brokenCommand(context.Context) *Crux {
	command := c.passage.Command
	if command.Origin == "" {
		return nil
	}
	answer := c.dry()
	if !answer.failed || answer.stuck || (!answer.missing && !command.Clear && (answer.said == "" || says(answer.said, "option|usage|-G"))) { // it takes other options than ssh does
		return nil
	}
	if refused := c.refusedByClient(); refused != nil {
		return refused
	}
	certainty := Likely
	if answer.missing || command.Clear {
		certainty = Proved
	}
	starts := untrusted.Clean(mask(command.Text + command.Name()))
	if starts == "" {
		starts = "nothing: the setting is there, and empty"
	}
	evidence := []Evidence{{c.program() + " starts", starts, c.station.Tilde(command.Origin)}}
	if answer.said != "" {
		evidence = append(evidence, Evidence{"it says", untrusted.Quote(answer.said), ""})
	}
	return crux("ssh-command-broken", certainty, evidence...)
}

// underneath settles the way once more where git starts another program than ssh, by what that program says that
// it would do: many are a line or two around ssh, and what they add to its options is known only so.
func (c *checker) underneath() error {
	command := c.passage.Command
	line, told := sshconfig.FromClient(c.dry().output, untrusted.Clean(command.Text+command.Name())+" -G")
	if !told {
		return nil
	}
	if err := c.passage.Close(); err != nil {
		return err
	}
	command.Line, command.Clear = line, true
	var err error
	c.passage, err = sshway.Prepare(c.station, command, c.address)
	return err
}

// otherProgramThanSSH tells that what git starts cannot be asked what it would do: then nobody but git can
// tell whether the way is open.
func (c *checker) otherProgramThanSSH(context.Context) *Crux {
	command := c.passage.Command
	if command.Clear || c.hg != nil {
		return nil
	}
	return crux("ssh-program-unknown", Proved, Evidence{"git starts", untrusted.Clean(mask(command.Text + command.Name())), c.station.Tilde(command.Origin)},
		Evidence{"asked with -G", "it does not say, as ssh does, which settings it goes by", ""})
}

// unlisted tells that the ssh client does not run for a user without a name.
func (c *checker) unlisted(context.Context) *Crux {
	if !c.station.Unlisted {
		return nil
	}
	evidence := []Evidence{{"user", "number " + strconv.Itoa(c.station.UID), "not in the password database"}}
	switch answer := c.dry(); {
	case answer.failed && says(answer.said, "no user exists"):
		return crux("user-unlisted", Proved, append(evidence, Evidence{"ssh says", untrusted.Quote(answer.said), ""})...)
	case answer.failed || answer.settled != nil: // another reason, or another program than ssh, which does not mind
		return nil
	}
	return crux("user-unlisted", Likely, evidence...)
}

// choosing are the settings by which a person changes what the client speaks.
var choosing = []string{"ciphers", "macs", "kexalgorithms"}

// limit makes a plan speak only what settings let the client speak: its own lists, where any of
// them was changed.
func (c *checker) limit(plan *wire.Plan) {
	changed := func(keyword string) []string {
		if _, _, set := c.passage.Settings.First(keyword); !set {
			return nil
		}
		return strings.Split(c.dry().settled[keyword], ",")
	}
	plan.Ciphers, plan.MACs, plan.Exchanges = changed(choosing[0]), changed(choosing[1]), changed(choosing[2])
}

// holdBack takes out the keys with which settings let the client make no signature: because of their kind, or
// because they are RSA keys that are too short.
func (c *checker) holdBack(context.Context) *Crux {
	if value, origin, set := c.passage.Settings.First("requiredrsasize"); set {
		least, err := strconv.Atoi(value)
		c.hold(func(key sshway.Key) bool {
			return err != nil || key.Public == nil || sshkey.Kind(key.Public) != sshkey.RSA || sshkey.Bits(key.Public) >= least
		}, Evidence{"setting", "RequiredRSASize " + untrusted.Clean(value), c.origin(origin)})
	}
	value, origin, set := c.passage.Settings.First("pubkeyacceptedalgorithms")
	list, known := c.dry().settled["pubkeyacceptedalgorithms"]
	if !set || !known {
		return nil
	}
	taken := strings.Split(list, ",")
	fits := func(key sshway.Key) bool {
		kinds := []string{""}
		if key.Public != nil {
			kinds[0] = key.Public.Type()
			if kinds[0] == ssh.KeyAlgoRSA {
				kinds = append(kinds, ssh.KeyAlgoRSASHA256, ssh.KeyAlgoRSASHA512)
			}
		}
		return key.Public == nil || slices.ContainsFunc(kinds, func(k string) bool { return slices.Contains(taken, k) })
	}
	c.hold(fits, Evidence{"setting", "PubkeyAcceptedAlgorithms " + untrusted.Clean(value), c.origin(origin)})
	return nil
}

// hold keeps back the keys that do not fit.
func (c *checker) hold(fits func(sshway.Key) bool, why Evidence) {
	for _, key := range c.passage.Keys {
		if !fits(key) {
			c.passage.Kept = append(c.passage.Kept, key)
			c.keptBy = []Evidence{why}
		}
	}
	c.passage.Keys = slices.DeleteFunc(c.passage.Keys, func(k sshway.Key) bool { return !fits(k) })
}
