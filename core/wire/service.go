package wire

import (
	"bufio"
	"bytes"
	"errors"
	"io"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/core/shellwords"
)

// serve asks for the repository, and for the greeting where that is wanted.
func (w *walker) serve(client *ssh.Client) error {
	if w.plan.Hg != "" {
		if err := w.askHg(client); err != nil {
			return err
		}
	} else if w.plan.Service != "" {
		if err := w.ask(client, w.plan.Service+" "+shellwords.GitPath(w.plan.Path), readService,
			&w.trip.Answer); err != nil {
			return err
		}
		if !w.trip.Answer.Open && w.plan.Instead != "" {
			if err := w.ask(client, w.plan.Instead+" "+shellwords.GitPath(w.plan.Path), readService,
				&w.trip.Instead); err != nil {
				return err
			}
		}
		if w.trip.Answer.Open && w.plan.Writing {
			w.trip.Writable = w.mayWrite(client)
		}
	}
	if w.plan.Greeting {
		w.greet(client)
	}
	if w.plan.Exists && !w.trip.Answer.Open && !w.trip.Instead.Open {
		w.trip.Exists = w.exists(client)
	}
	if (w.plan.Service != "" || w.plan.Hg != "") && !w.trip.Answer.Open {
		return w.fail(ErrService, w.trip.Answer.Message)
	}
	return nil
}

// readService reads a git service's advertisement and ends it with a flush packet, by which a
// client says that it wants nothing [PACK].
func readService(input io.WriteCloser, output *bufio.Reader) (advertisement, error) {
	ad, err := beginAdvertisement(output)
	if errors.Is(err, errNoPacket) {
		_ = input.Close() // a service that waits for an answer ends then
		ad.readOn(output)
	}
	if err == nil {
		_, _ = io.WriteString(input, flushPacket)
	}
	return ad, err
}

// ask runs a program at the host and reads how it answers. Nothing is sent that could change the
// repository.
func (w *walker) ask(
	client *ssh.Client,
	command string,
	read func(io.WriteCloser, *bufio.Reader) (advertisement, error),
	answer *Answer,
) error {
	answer.Exit = -1
	session, err := client.NewSession()
	if err != nil {
		return w.serviceFailure(err, answer)
	}
	defer session.Close() // the answer is complete by then
	deadline := time.AfterFunc(w.plan.Timeout, func() { _ = client.Close() })
	defer deadline.Stop()

	words := &bounded{limit: maxWords}
	session.Stderr = words
	input, err := session.StdinPipe()
	if err != nil {
		return w.serviceFailure(err, answer)
	}
	output, err := session.StdoutPipe()
	if err != nil {
		return w.serviceFailure(err, answer)
	}
	if err := session.Start(command); err != nil {
		return w.serviceFailure(err, answer)
	}
	advertisement, adErr := read(input, bufio.NewReader(io.LimitReader(output, maxAdvertisement)))
	if adErr == nil {
		deadline.Reset(w.plan.Timeout)
	}
	_ = input.Close()
	_, _ = io.Copy(io.Discard, io.LimitReader(output, maxAdvertisement))
	answer.finish(session.Wait(), advertisement, adErr, words)
	if !answer.Open && answer.Exit == -1 {
		return w.died(client)
	}
	return nil
}

// died is a failure where the connection ended under a program at the host; nil where it is alive.
func (w *walker) died(client *ssh.Client) error {
	if _, _, err := client.SendRequest("keepalive@openssh.com", true, nil); err == nil {
		return nil
	}
	return w.fail(ended(client.Wait()), w.trip.Answer.Message)
}

// exitStatus is that with which a program at the host ended; -1 where it was not told.
func exitStatus(ended error) int {
	var exit *ssh.ExitError
	switch {
	case ended == nil:
		return 0
	case errors.As(ended, &exit):
		return exit.ExitStatus()
	}
	return -1
}

func (a *Answer) finish(ended error, ad advertisement, adErr error, words *bounded) {
	a.Exit = exitStatus(ended)
	a.Open, a.Refs, a.Heads = adErr == nil, ad.refs, ad.heads
	a.Message = words.text.String()
	a.Noise = adErr != nil && advertises().MatchString(ad.words)
	if adErr != nil && ad.words != "" {
		a.Message = clip(strings.TrimSpace(ad.words + "\n" + a.Message))
	}
}

func (w *walker) serviceFailure(err error, answer *Answer) error {
	answer.Message = clip(err.Error())
	var refused *ssh.OpenChannelError
	switch {
	case isTimeout(err):
		return w.fail(ErrSilent, "")
	case errors.As(err, &refused):
		return w.fail(ErrNoSession, refused.Message)
	}
	return w.fail(ended(err), "")
}

// greet asks for a shell, to which hosts that give none answer with a line that names
// the account. It is asked only where a description says that the host does so.
func (w *walker) greet(client *ssh.Client) {
	session, err := client.NewSession()
	if err != nil {
		return
	}
	defer session.Close() // the greeting is all we want
	deadline := time.AfterFunc(w.plan.Timeout, func() { _ = session.Close() })
	defer deadline.Stop()
	words := &bounded{limit: maxWords}
	session.Stdout, session.Stderr, session.Stdin = words, words, bytes.NewReader(nil)
	w.trip.GreetingExit = -1
	if session.Shell() == nil {
		w.trip.GreetingExit = exitStatus(session.Wait())
	}
	w.trip.Greeting = words.text.String()
}

// exists tells whether something lies at the path.
func (w *walker) exists(client *ssh.Client) bool { return w.test(client, "-e", w.plan.Path) == Yes }

// test asks a shell about a path, where the host has one for us. test(1) reads nothing and changes
// nothing.
func (w *walker) test(client *ssh.Client, what, path string) Ternary {
	session, err := client.NewSession()
	if err != nil {
		return Untold
	}
	defer session.Close() // the exit status is all we want
	deadline := time.AfterFunc(w.plan.Timeout, func() { _ = session.Close() })
	defer deadline.Stop()
	err = session.Run("test " + what + " " + shellwords.GitPath(path))
	var exit *ssh.ExitError
	switch {
	case err == nil:
		return Yes
	case errors.As(err, &exit) && exit.ExitStatus() == 1:
		return No
	}
	return Untold
}

// mayWrite asks a shell at the host whether a push could store objects and refs in a repository of git's
// (gitrepository-layout(5)): the service itself offers to take a push, whatever the modes of the files.
func (w *walker) mayWrite(client *ssh.Client) Ternary {
	if strings.HasPrefix(strings.TrimPrefix(w.plan.Path, "/"), "~") { // git reads that as a home, and a shell does not
		return Untold
	}
	for _, folder := range []string{w.plan.Path, w.plan.Path + "/.git"} {
		if w.test(client, "-d", folder+"/objects") != Yes {
			continue
		}
		if objects := w.test(client, "-w", folder+"/objects"); objects != Yes {
			return objects
		}
		return w.test(client, "-w", folder+"/refs")
	}
	return Untold
}

// A bounded writer keeps the first bytes and lets the rest go by.
type bounded struct {
	text  bytes.Buffer
	limit int
}

func (b *bounded) Write(p []byte) (int, error) {
	if room := b.limit - b.text.Len(); room > 0 {
		b.text.Write(p[:min(len(p), room)])
	}
	return len(p), nil
}
