package standin

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"net"
	"os/exec"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
)

// login is the name with which everybody signs in; the key tells who it is.
const login = "git"

var errStranger = errors.New("no account has this key")

// serveSSH takes connections until the listener is closed.
func (h *Host) serveSSH() {
	for _, listener := range []net.Listener{h.ssh, h.other} {
		h.running.Go(func() {
			for {
				conn, err := faulty{listener, h, "ssh"}.Accept()
				if err != nil {
					return
				}
				h.running.Go(func() { h.converse(conn, h.howToSignIn()) })
			}
		})
	}
}

func (h *Host) howToSignIn() *ssh.ServerConfig {
	config := &ssh.ServerConfig{ServerVersion: "SSH-2.0-Tidewater", PublicKeyCallback: h.whoseKey}
	config.AddHostKey(h.hostKey)
	if fault := h.wrong("ssh", func(f Fault) bool { return f.keys != nil }); fault.keys != nil {
		fault.keys(h, config)
	}
	return config
}

func (h *Host) whoseKey(meta ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
	h.state.Lock()
	defer h.state.Unlock()
	for _, known := range h.state.keys {
		if meta.User() != login || !sameKey(known.key, key) || known.ended() {
			continue
		}
		guest := map[string]string{"account": known.account, "key": known.id}
		if known.ReadOnly {
			guest["reads"] = "only"
		}
		if known.repo != "" {
			guest["repo"] = known.repo
		}
		if h.state.blocked[known.account] {
			guest["blocked"] = "yes"
		}
		return &ssh.Permissions{Extensions: guest}, nil
	}
	return nil, errStranger
}

func (r registered) ended() bool { return !r.Until.IsZero() && time.Now().After(r.Until) }

func sameKey(a, b ssh.PublicKey) bool { return bytes.Equal(a.Marshal(), b.Marshal()) }

// converse speaks with one client until it leaves.
func (h *Host) converse(conn net.Conn, config *ssh.ServerConfig) {
	h.track(conn, true)
	defer h.track(conn, false)
	defer conn.Close() // the conversation is over
	server, channels, requests, err := ssh.NewServerConn(conn, config)
	if err != nil {
		return
	}
	h.signedInWith(server.Permissions.Extensions["key"])
	h.running.Go(func() { ssh.DiscardRequests(requests) })
	for offered := range channels {
		if offered.ChannelType() != "session" {
			_ = offered.Reject(ssh.UnknownChannelType, "sessions only")
			continue
		}
		channel, asked, err := offered.Accept()
		if err != nil {
			return
		}
		h.running.Go(func() { h.session(channel, asked, server.Permissions.Extensions) })
	}
}

// signedInWith keeps when a key was last used.
func (h *Host) signedInWith(id string) {
	h.state.Lock()
	defer h.state.Unlock()
	for i := range h.state.keys {
		if h.state.keys[i].id == id {
			h.state.keys[i].used = time.Now().UTC()
		}
	}
}

func (h *Host) track(conn net.Conn, here bool) {
	h.state.Lock()
	defer h.state.Unlock()
	if here {
		h.state.open[conn] = true
	} else {
		delete(h.state.open, conn)
	}
}

// session answers one session's requests: a git command, or a greeting in place of a shell
// (RFC 4254, section 6.5).
func (h *Host) session(channel ssh.Channel, asked <-chan *ssh.Request, guest map[string]string) {
	defer channel.Close() // the client may have left
	protocol := ""
	for request := range asked {
		switch request.Type {
		case "env":
			var pair struct{ Name, Value string }
			if ssh.Unmarshal(request.Payload, &pair) == nil && pair.Name == "GIT_PROTOCOL" {
				protocol = pair.Value
			}
			_ = request.Reply(true, nil)
		case "shell":
			_ = request.Reply(true, nil)
			who := "you as " + guest["account"]
			if guest["repo"] != "" {
				who = "this key for " + guest["repo"] + " alone"
			}
			_, _ = fmt.Fprintf(channel.Stderr(), "%s knows %s. There is no shell here.\n", h.world.title, who)
			exit(channel, 0)
			return
		case "exec":
			var command struct{ Line string }
			_ = ssh.Unmarshal(request.Payload, &command) // an empty command is refused below
			_ = request.Reply(true, nil)
			exit(channel, h.serveGit(channel, guest, command.Line, protocol))
			return
		default:
			_ = request.Reply(false, nil)
		}
	}
}

func exit(channel ssh.Channel, status uint32) {
	_, _ = channel.SendRequest("exit-status", false, ssh.Marshal(struct{ Status uint32 }{status}))
}

// serveGit runs the real git service for a command line such as git-upload-pack 'x', when
// the account may have it, and returns the exit status.
func (h *Host) serveGit(channel ssh.Channel, guest map[string]string, line, protocol string) uint32 {
	account := guest["account"]
	service, argument, _ := strings.Cut(line, " ")
	path := strings.TrimSuffix(strings.Trim(strings.Trim(argument, "'"), "/"), ".git")
	refuse := func(format string, args ...any) uint32 {
		_, _ = fmt.Fprintf(channel.Stderr(), h.world.title+": "+format+"\n", args...)
		return 1
	}
	if service != "git-upload-pack" && service != "git-receive-pack" {
		return refuse("only git is served here.")
	}
	repo, seen := h.sight(account, path)
	switch fault := h.wrong("ssh", func(f Fault) bool { return f.says != "" }); {
	case fault.says != "":
		return refuse("%s", fault.says)
	case guest["blocked"] != "":
		return refuse("the account %s is blocked: ask the board.", account)
	case !seen || (guest["repo"] != "" && guest["repo"] != path):
		return refuse("there is no repository %s that %s may see.", path, account)
	case service == "git-receive-pack" && repo.frozen:
		return refuse("%s is frozen for everyone.", path)
	case service == "git-receive-pack" && guest["reads"] != "":
		return refuse("this key was registered for reading only.")
	case service == "git-receive-pack" && !repo.mayWrite:
		return refuse("%s may read %s, not write to it.", account, path)
	}
	return h.run(channel, protocol, strings.TrimPrefix(service, "git-"), h.repoDir(path))
}

func (h *Host) run(channel ssh.Channel, protocol, service, dir string) uint32 {
	cmd := h.gitCommand(service, dir)
	cmd.Env = append(append(cmd.Env, "GIT_PROTOCOL="+protocol), h.hookSettings()...)
	cmd.Stdout, cmd.Stderr = channel, channel.Stderr()
	input, err := cmd.StdinPipe()
	if err != nil {
		return 1
	}
	// Copied apart from the command's own waiting: a client keeps its end open until it
	// has the exit status.
	go func() {
		_, _ = io.Copy(input, channel)
		_ = input.Close()
	}()
	err = cmd.Run()
	var status *exec.ExitError
	switch {
	case err == nil:
		return 0
	case errors.As(err, &status) && status.ExitCode() > 0:
		return uint32(status.ExitCode())
	}
	return 1
}
