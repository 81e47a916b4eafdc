package sshconfig

import (
	"errors"
	"strconv"
	"strings"
)

// ErrJumpLoop is the problem of a host that is to be reached through itself.
var ErrJumpLoop = errors.New("ssh stops, because the jump host is the host itself")

// A Jump is one host of ProxyJump ([CONF]).
type Jump struct {
	User string // empty for what settings say
	Host string
	Port int // 0 for what settings say
}

// ParseJump reads [user@]host[:port], or the same behind "ssh://".
func ParseJump(text string) Jump {
	text = strings.TrimPrefix(strings.TrimSpace(text), "ssh://")
	var j Jump
	if i := strings.LastIndexByte(text, '@'); i >= 0 {
		j.User, text = text[:i], text[i+1:]
	}
	if i := strings.LastIndexByte(text, ':'); i > 0 && !strings.HasSuffix(text, "]") {
		if port, err := strconv.ParseUint(text[i+1:], 10, 16); err == nil {
			text, j.Port = text[:i], int(port)
		}
	}
	j.Host = strings.Trim(text, "[]")
	return j
}

// checkJump finds a host that is its own last jump host: the client stops there (main in ssh.c of OpenSSH).
func (s *Settings) checkJump() {
	if len(s.values["proxyjump"]) == 0 {
		return
	}
	c := s.Client()
	hops := strings.Split(c.ProxyJump, ",")
	last := ParseJump(hops[len(hops)-1])
	if last.Port == 0 {
		last.Port = 22
	}
	if last.Host == c.HostName && last.Port == c.Port && (last.User == "" || last.User == c.User) {
		s.problem(s.values["proxyjump"][0].Origin, "proxyjump", ErrJumpLoop)
	}
}
