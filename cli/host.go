package cli

import (
	"bytes"
	"net"
	"net/netip"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"anchorage.example/unicrux/core/effective"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/render"
)

func hostCommand(a *app) *cobra.Command {
	command := &cobra.Command{
		Use:   "host",
		Short: "Code hosts: learn, draft, add, list, show, set, trust, test, refresh, account, drop",
	}
	command.AddCommand(hostLearn(a), hostDraft(a), hostAdd(a), hostRefresh(a), hostList(a), hostShow(a), hostTest(a),
		hostTrust(a), hostSet(a), hostDrop(a), hostAccount(a))
	return command
}

func hostAdd(a *app) *cobra.Command {
	return &cobra.Command{
		Use:   "add FILE|URL|HOST",
		Short: "Keep a host's description, and settle how ssh reaches the host",
		Long: `Keeps a copy of the description in FILE, and puts what ssh needs to reach the host into
~/.ssh/unicrux.conf. Your own ~/.ssh/config gets one line at its top that includes it; what
you wrote there is not touched.

HOST is asked for the description that it hands out of itself, at https://HOST/.well-known/unicrux.
A description from a URL comes over https only. Before it is kept you see what it names: every
place to which a secret of yours may go, who vouches for it, and the description's fingerprint,
which you can compare with somebody who has it already. One that takes the place of another is
shown as a difference, and you are asked. A place that one description names no other may name.`,
		RunE: func(_ *cobra.Command, args []string) error {
			source, err := hosts.Get(a.ctx, a.station, args[0])
			if err != nil {
				return err
			}
			return keepSource(a, source)
		},
	}
}

func hostRefresh(a *app) *cobra.Command {
	return &cobra.Command{
		Use:   "refresh HOST",
		Short: "Get a host's description again from where it came, and show the difference",
		Long: `Reads the description again from the file or the address from which it was added. What is different
is shown, and kept only if you say so. A host that was learned from a clone URL is asked whether it
hands out a description of itself by now.`,
		RunE: func(_ *cobra.Command, args []string) error {
			_, d, err := a.host(args[0])
			if err != nil {
				return err
			}
			source, err := hosts.Again(a.ctx, a.station, d)
			if err != nil {
				return err
			}
			return keepSource(a, source)
		},
	}
}

// keepSource shows a description, asks where somebody else may have written it, and keeps it.
func keepSource(a *app, source hosts.Source) error {
	d, s := source.Description, a.style()
	if err := acceptSource(a, source); err != nil {
		return err
	}
	batch := a.begin("Describe "+d.Name+".", d.Name)
	if err := hosts.Add(batch, a.station, source); err != nil {
		return err
	}
	first := "Described. ssh reaches it as its description says."
	if a.dry {
		first = "Would be described."
	}
	return a.showChange(batch, render.Host(s, d)+"\n"+s.Sentences(first), render.HostDocument(d, number(batch)))
}

// acceptSource shows where secrets would go. A person is asked where somebody else may have written
// the description, and where it takes the place of another one.
func acceptSource(a *app, source hosts.Source) error {
	old, err := hosts.Replaces(a.station, source)
	if err != nil {
		return err
	}
	s, same := a.errStyle(), old.Text != nil && bytes.Equal(old.Text, source.Text)
	switch {
	case same:
		return nil
	case old.Text != nil:
		a.progressText(render.ReplacedSource(s, source, old))
	default:
		a.progressText(render.Source(s, source))
	}
	if a.dry || old.Text == nil && !source.FromWeb {
		return nil
	}
	question := "Keep this description?"
	if old.Text != nil {
		question = "Replace the description of " + source.Description.Name +
			"? Stored tokens still go only to the places that they were stored for."
	}
	return a.confirm(question)
}

func hostList(a *app) *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the hosts that are described here",
		RunE: func(*cobra.Command, []string) error {
			registry, err := hosts.Open(a.station)
			if err != nil {
				return err
			}
			var problems []string
			for _, problem := range registry.Problems {
				problems = append(problems, a.station.Tilde(problem.Error()))
			}
			s := a.style()
			text := render.Hosts(s, registry.Hosts)
			if len(registry.Hosts) == 0 {
				text = s.Sentences("No host is described here yet. A clone URL is enough to begin with:") +
					render.CommandLine(s, "unicrux", "ready", "URL")
			}
			return a.show(text+render.Careful(s, problems), render.HostsDocument(registry.Hosts, problems))
		},
	}
}

func hostShow(a *app) *cobra.Command {
	var settings bool
	var file string
	var run bool
	command := &cobra.Command{
		Use: "show HOST", Short: "Show all about a host, or every setting that holds for it",
		Long: `Shows how a described host is reached and spoken to. With --settings it accepts any host name,
and shows every effective setting of ssh and git: where it is set, which others it
overrides, and what would be in effect without it. Nothing that a setting would run is run, unless
--run-commands asks for it.`,
		RunE: func(_ *cobra.Command, args []string) error {
			if file != "" && !settings {
				return usage("--ssh-config goes with --settings")
			}
			if settings {
				return showSettings(a, args[0], effective.Question{SSHConfig: file, Run: run})
			}
			_, d, err := a.host(args[0])
			if err != nil {
				return err
			}
			return a.show(render.Host(a.style(), d), render.HostDocument(d, 0))
		},
	}
	command.Flags().BoolVar(&settings, "settings", false,
		"every setting of ssh and git that holds for the host, and its origin")
	command.Flags().BoolVar(&run, "run-commands", false,
		"with --settings: run the commands on which blocks depend (Match exec), as ssh would")
	command.Flags().Var(named(&file, "FILE"), "ssh-config", "with --settings: read this file as ssh's -F would")
	return command
}

func showSettings(a *app, name string, q effective.Question) error {
	registry, err := hosts.Open(a.station)
	if err != nil {
		return err
	}
	host, port := hostAndPort(name)
	if q.Host, q.Port, err = host, port, nil; !isAddress(host) {
		if q.Host, err = registry.HostName(host); err != nil {
			return err
		}
	}
	if q.SSHConfig != "" && !filepath.IsAbs(q.SSHConfig) {
		q.SSHConfig = filepath.Join(a.station.Folder, q.SSHConfig)
	}
	view, err := effective.For(a.ctx, a.station, q)
	if err != nil {
		return err
	}
	return a.show(render.Settings(a.style(), view, a.station.Tilde), render.SettingsDocument(view))
}

// hostAndPort takes a port off a host's name: forge.tidewater.example:2222, [::1]:2222 or [::1]; 0 for none.
func hostAndPort(name string) (host string, port uint16) {
	if host, text, err := net.SplitHostPort(name); err == nil {
		if n, err := strconv.ParseUint(text, 10, 16); err == nil && n > 0 && host != "" {
			return host, uint16(n)
		}
	}
	if bare, found := strings.CutPrefix(name, "["); found && isAddress(strings.TrimSuffix(bare, "]")) {
		return strings.TrimSuffix(bare, "]"), 0
	}
	return name, 0
}

// isAddress tells whether a host is named by its number.
func isAddress(host string) bool {
	_, err := netip.ParseAddr(host)
	return err == nil
}

func hostSet(a *app) *cobra.Command {
	return &cobra.Command{
		Use:   "set HOST NAME=VALUE…",
		Short: "Settle how ssh reaches a host",
		Long: `Puts settings for one host into ~/.ssh/unicrux.conf and, for git, into a file of ours that
git's own includes. An empty value takes a setting back. HOST is a described host, or any
host name.

  key, user, port, address   which key is offered, to whom and where
  keep-alive                 seconds after which ssh asks whether the host is still there
  via                        jump hosts, with commas between
  proxy                      http://HOST:PORT or socks5://HOST:PORT, for ssh and for HTTPS
  authority                  a file with certificates to trust, for HTTPS
  by                         ssh or https, whatever the clone URL says
  in-place                   on: when ssh fails, git's own output shows the crux; for all
                             hosts, because git has one ssh
  author-name, author-email  who commits are by, in repositories of this host
  folder                     with an author: in repositories below this folder instead`,
		RunE: func(_ *cobra.Command, args []string) error {
			registry, err := hosts.Open(a.station)
			if err != nil {
				return err
			}
			batch := a.begin("Settle how "+args[0]+" is reached.", args[0])
			if err := hosts.Set(a.ctx, batch, a.station, registry, a.program(), args[0], args[1:]); err != nil {
				return err
			}
			words := "Settled how " + args[0] + " is reached."
			if _, err := registry.Find(args[0]); err != nil {
				words += " It is not described here, so this holds for that very name."
			}
			if number(batch) == 0 {
				words = "Settled so already."
			}
			hostName, err := registry.HostName(args[0])
			if err != nil {
				return err
			}
			overruled, err := effective.Overruled(a.ctx, a.station, hostName)
			if err != nil {
				return err
			}
			text := a.style().Sentences(words) + render.Overruled(a.style(), overruled, a.station.Tilde)
			return a.showChange(batch, text, render.SetDocument(words, overruled, number(batch)))
		},
	}
}

func hostDrop(a *app) *cobra.Command {
	return &cobra.Command{
		Use:   "drop HOST",
		Short: "Forget a host: its description, and how ssh reaches it",
		Long: `Takes out the description of a host and our settings for it. Your keys stay, and so does
what is stored about the host's own key.`,
		RunE: func(_ *cobra.Command, args []string) error {
			registry, err := hosts.Open(a.station)
			if err != nil {
				return err
			}
			batch := a.begin("Forget "+args[0]+".", args[0])
			if err := hosts.Drop(a.ctx, batch, a.station, registry, args[0]); err != nil {
				return err
			}
			words := args[0] + " is forgotten. Keys and host keys stay where they are."
			if number(batch) == 0 {
				words = "Nothing was known of " + args[0] + "."
			}
			return a.showDone(batch, words)
		},
	}
}
