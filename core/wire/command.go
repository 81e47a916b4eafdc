package wire

import (
	"context"
	"errors"
	"io"
	"net"
	"os/exec"
	"runtime"
	"strings"
	"sync"
	"time"
)

// commandGrace is how long a command may take to end after it was told to.
const commandGrace = 2 * time.Second

// dialCommand connects through a command's input and output, as the ssh client does for
// ProxyCommand (ssh_config(5)): by the shell, which is replaced by the command.
func dialCommand(ctx context.Context, command string) (*commandConn, error) {
	ctx, cancel := context.WithCancel(ctx)
	name, args := "sh", []string{"-c", "exec " + command}
	if runtime.GOOS == "windows" {
		name, args = "cmd", []string{"/c", command}
	}
	c := &commandConn{cancel: cancel, cmd: exec.CommandContext(ctx, name, args...), words: bounded{limit: maxWords}}
	c.cmd.Stderr, c.cmd.WaitDelay = &c.words, commandGrace
	var errIn, errOut error
	c.in, errIn = c.cmd.StdinPipe()
	c.out, errOut = c.cmd.StdoutPipe()
	if err := errors.Join(errIn, errOut); err != nil {
		cancel()
		return nil, err
	}
	if err := c.cmd.Start(); err != nil {
		cancel()
		return nil, err
	}
	c.wait = sync.OnceFunc(func() { _ = c.cmd.Wait() }) // what it said and sent tells more than its status
	return c, nil
}

// A commandConn is a running command as a connection.
type commandConn struct {
	in     io.WriteCloser // to the command
	out    io.ReadCloser  // from it
	cancel context.CancelFunc
	cmd    *exec.Cmd
	words  bounded // from its error stream; to be read after end
	wait   func()  // waits once until the command has ended, for whoever calls it
}

func (c *commandConn) Read(p []byte) (int, error)  { return c.out.Read(p) }
func (c *commandConn) Write(p []byte) (int, error) { return c.in.Write(p) }

// Close ends the command.
func (c *commandConn) Close() error {
	c.cancel()
	_ = c.in.Close()
	c.wait()
	return nil
}

// end waits for a command that has ended by itself and returns what it said.
func (c *commandConn) end() string {
	_ = c.in.Close()
	stop := time.AfterFunc(commandGrace, c.cancel)
	defer stop.Stop()
	c.wait()
	return strings.TrimSpace(c.words.text.String())
}

// SetDeadline works where the platform's pipes know deadlines, which is everywhere but
// on Windows.
func (c *commandConn) SetDeadline(t time.Time) error {
	if out, ok := c.out.(interface{ SetReadDeadline(time.Time) error }); ok {
		_ = out.SetReadDeadline(t)
	}
	return nil
}

func (c *commandConn) SetReadDeadline(t time.Time) error { return c.SetDeadline(t) }
func (c *commandConn) SetWriteDeadline(time.Time) error  { return nil }
func (c *commandConn) LocalAddr() net.Addr               { return &net.TCPAddr{} }
func (c *commandConn) RemoteAddr() net.Addr              { return &net.TCPAddr{} }
