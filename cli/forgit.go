package cli

import (
	"io"
	"net"
	"net/url"

	"github.com/spf13/cobra"

	"anchorage.example/unicrux/core/wire"
)

// forGit are the commands that git and ssh call, and people do not.
func forGitCommand(a *app) *cobra.Command {
	command := &cobra.Command{Use: "for-git", Short: "What git and ssh call", Hidden: true}
	command.AddCommand(forGitConnect(a), forGitCredential(a), forGitSSH(a))
	return command
}

func forGitConnect(a *app) *cobra.Command {
	return &cobra.Command{
		Use:   "connect PROXY HOST PORT",
		Short: "Be ssh's connection through a proxy",
		RunE: func(_ *cobra.Command, args []string) error {
			at, err := url.Parse(args[0])
			if err != nil || at.Host == "" {
				return usage("the proxy has the form http://HOST:PORT or socks5://HOST:PORT")
			}
			conn, err := wire.Tunnel(a.ctx, at, net.JoinHostPort(args[1], args[2]), a.timeout)
			if err != nil {
				return err
			}
			defer conn.Close() // the conversation is over
			done := make(chan error, 1)
			go func() { // ssh closes its end when it has done
				_, _ = io.Copy(conn, a.In)
				if half, ok := conn.(interface{ CloseWrite() error }); ok {
					_ = half.CloseWrite()
				}
			}()
			go func() {
				_, err := io.Copy(a.Out, conn)
				done <- err
			}()
			select {
			case err := <-done:
				return err
			case <-a.ctx.Done():
				return errStopped
			}
		},
	}
}
