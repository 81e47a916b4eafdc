//go:build !windows

package agent

import "net"

func dial(socket string) (net.Conn, error) { return net.DialTimeout("unix", socket, patience) }
