package wire

import (
	"bufio"
	"errors"
	"io"
	"strconv"
	"strings"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/shellwords"
)

// errNoGreeting is why something at the other end is not Mercurial.
var errNoGreeting = errors.New("no greeting of Mercurial's")

// mostNoise is how many lines a login there may print before Mercurial is heard, as hg itself
// counts them.
const mostNoise = 500

// askHg starts Mercurial at the host as hg does, and greets it ("SSH Version 1 Transport" in its
// internals.wireprotocol). Where wanted, a shell is asked whether the repository may be written:
// Mercurial tells that only by being pushed to.
func (w *walker) askHg(client *ssh.Client) error {
	command := w.plan.Hg + " -R " + shellwords.GitPath(w.plan.Path) + " serve --stdio"
	greet := func(in io.WriteCloser, out *bufio.Reader) (advertisement, error) { return greetHg(in, out) }
	if err := w.ask(client, command, greet, &w.trip.Answer); err != nil {
		return err
	}
	if w.trip.Answer.Open && w.plan.Writing && w.test(client, "-d", w.plan.Path+"/.hg/store") == Yes {
		w.trip.Writable = w.test(client, "-w", w.plan.Path+"/.hg/store")
	}
	return nil
}

// greetHg says hello and reads what the other end can do: the length of the answer on a line of
// its own, and "capabilities: ...".
func greetHg(input io.Writer, output *bufio.Reader) (advertisement, error) {
	ad := advertisement{}
	output = bufio.NewReader(io.LimitReader(output, 2*maxWords))
	_, _ = io.WriteString(input, "hello\n")
	for range mostNoise {
		line, err := output.ReadString('\n')
		line = strings.TrimSuffix(line, "\n")
		if n, bad := strconv.Atoi(line); err == nil && bad == nil && n > 0 && n < maxWords {
			text := make([]byte, n)
			if _, err := io.ReadFull(output, text); err != nil {
				return ad, err
			}
			if strings.HasPrefix(string(text), "capabilities:") {
				return ad, nil
			}
		}
		ad.words = clip(ad.words + line + "\n")
		if err != nil {
			return ad, errNoGreeting
		}
	}
	return ad, errNoGreeting
}
