package sshcheck

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/diagnose/finding"
	"anchorage.example/unicrux/core/diagnose/seen"
	"anchorage.example/unicrux/core/untrusted"
)

// hindrance names a setting with which ssh cannot serve git, whoever answers.
func (s Settled) hindrance() *finding.Crux {
	settings := s.Passage.Settings
	hinders := func(keyword, why string) *finding.Crux {
		value, origin, _ := settings.First(keyword)
		return finding.New(
			causes.SSHSettingHinders,
			finding.Proved,
			finding.Saw(
				seen.Setting,
				keyword+" "+untrusted.Clean(value),
				s.Origin(origin),
			),
			finding.Saw(seen.Why, why, ""),
		)
	}
	is := func(keyword string, values ...string) bool {
		value, _, set := settings.First(keyword)
		for _, v := range values {
			if set && strings.EqualFold(value, v) {
				return true
			}
		}
		return false
	}
	if wrong := s.variant(); wrong != nil {
		return wrong
	}
	if command, _, set := settings.First("remotecommand"); set && !strings.EqualFold(command, "none") {
		return hinders("remotecommand", "git runs its own command on the host, and ssh accepts only one")
	}
	switch {
	case is("sessiontype", "none", "subsystem"):
		return hinders("sessiontype", "git needs to run a command on the host")
	case is("stdinnull", "yes", "true"):
		return hinders("stdinnull", "git sends its data through ssh's standard input")
	}
	if is("requesttty", "force") {
		return hinders("requesttty", "a terminal changes the data between git and the host")
	}
	if address, _, set := settings.First("bindaddress"); set && !bindable(address) {
		return hinders("bindaddress", "this workstation has no such IP")
	}
	if name, _, set := settings.First("bindinterface"); set && !hasAddress(name) {
		return hinders("bindinterface", "this workstation has no such network interface, or it has no IP")
	}
	if why := s.unshared(); why != "" {
		return hinders("controlpath", why)
	}
	if is("exitonforwardfailure", "yes", "true") {
		for _, keyword := range []string{"localforward", "dynamicforward"} {
			for _, value := range settings.All(keyword) {
				if at := taken(value.Args); at != "" {
					return hinders(keyword, "something listens at "+at+
						" already, and ExitOnForwardFailure ends ssh then")
				}
			}
		}
	}
	return nil
}

// variant tells of a setting by which git takes the ssh program for another kind than it is, and
// gives it other options (ssh.variant in git-config(1)).
func (s Settled) variant() *finding.Crux {
	kind, origin := s.Station.Getenv("GIT_SSH_VARIANT"), "environment: GIT_SSH_VARIANT"
	if set, found := s.Config.Last("ssh.variant"); found && kind == "" {
		kind, origin = set.Value, s.Station.Tilde(set.Origin)
	}
	why := ""
	switch kind = strings.ToLower(kind); {
	case s.Hg != nil:
	case kind == "simple" && s.Address.Port != 0:
		why = "git gives a simple program no port, and the URL names one"
	case slices.Contains([]string{"plink", "putty", "tortoiseplink"}, kind) && s.Passage.Command.Clear:
		why = "git gives ssh options that it does not have"
	}
	if why == "" {
		return nil
	}
	return finding.New(causes.SSHCommandBroken, finding.Proved, finding.Saw(seen.Variant, kind, origin),
		finding.Saw(seen.Why, why, ""))
}

// bindable tells whether a connection can be made from an address.
func bindable(address string) bool {
	listener, err := net.Listen("tcp", net.JoinHostPort(address, "0"))
	if err == nil {
		_ = listener.Close()
	}
	return err == nil
}

// longestSocket is how long the path of a socket may be (sun_path in unix(7)), less what ssh puts
// behind it while it makes the socket.
const longestSocket = 108 - 1 - 17

// unshared tells why the socket for a shared connection cannot be made; ssh gives up then.
func (s Settled) unshared() string {
	path := s.Passage.Client.ControlPath
	if path == "" {
		return ""
	}
	if _, err := os.Lstat(path); err == nil { // it is there: ssh goes through it, or on without
		return ""
	}
	folder, err := os.Stat(filepath.Dir(path))
	switch {
	case len(path) > longestSocket:
		return fmt.Sprintf("the path of the socket has %d characters, and %d is the most", len(path), longestSocket)
	case err != nil || !folder.IsDir():
		return "the folder of the socket is not there: " + s.Station.Tilde(filepath.Dir(path))
	}
	return ""
}

// hasAddress tells whether an interface is there, with an address to connect from.
func hasAddress(name string) bool {
	at, err := net.InterfaceByName(name)
	if err != nil {
		return false
	}
	addresses, err := at.Addrs()
	return err == nil && len(addresses) > 0
}

// taken returns the address of a forwarding where something listens already; empty where ssh can listen at one
// of those that it stands for at least (channel_setup_fwd_listener_tcpip of the OpenSSH sources).
func taken(args []string) string {
	if len(args) == 0 || strings.Contains(args[0], "/") {
		return ""
	}
	host, port := "localhost", args[0]
	if strings.Contains(args[0], ":") {
		var err error
		if host, port, err = net.SplitHostPort(args[0]); err != nil {
			return ""
		}
	}
	hosts := []string{host}
	switch host {
	case "localhost":
		hosts = []string{"127.0.0.1", "::1"}
	case "", "*":
		hosts = []string{"0.0.0.0", "::"}
	}
	for _, host := range hosts {
		if listener, err := net.Listen("tcp", net.JoinHostPort(host, port)); err == nil {
			_ = listener.Close()
			return ""
		}
	}
	return net.JoinHostPort(hosts[0], port)
}
