package wire

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net"
	"strconv"
	"strings"
	"time"

	"anchorage.example/unicrux/core/waiting"
)

// gitPort is where git's own protocol is spoken (git-daemon(1)).
const gitPort = 9418

// GoGit asks for a repository by git's own protocol, in which nobody signs in ("Git Transport" in
// gitprotocol-pack(5)). The error is a *[Failure], or ctx's.
func GoGit(ctx context.Context, host string, port int, path, service string, timeout time.Duration) (Answer, error) {
	if port == 0 {
		port = gitPort
	}
	w := &walker{plan: Plan{Host: host, Port: port, Timeout: timeout}, trip: &Trip{With: -1}, mark: time.Now(),
		shown: waiting.On(ctx, host)}
	defer w.shown.Over()
	conn, err := w.connect(ctx)
	if err != nil {
		return Answer{Exit: -1}, err
	}
	defer conn.Close() // nothing was written that could be lost
	_ = conn.SetDeadline(time.Now().Add(timeout))
	named := host
	if port != gitPort {
		named = net.JoinHostPort(host, strconv.Itoa(port))
	}
	request := service + " " + path + "\x00host=" + named + "\x00"
	if _, err := fmt.Fprintf(conn, "%04x%s", len(request)+4, request); err != nil {
		return Answer{Exit: -1}, w.fail(ErrHungUp, "")
	}
	answer := Answer{Exit: -1}
	advertisement, err := readAdvertisement(bufio.NewReader(io.LimitReader(conn, maxAdvertisement)))
	if answer.Message = strings.TrimSpace(advertisement.words); err == nil {
		answer.Open, answer.Refs, answer.Heads = true, advertisement.refs, advertisement.heads
		_, _ = io.WriteString(conn, flushPacket)
	}
	return answer, nil
}
