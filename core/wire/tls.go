package wire

import (
	"context"
	"crypto/tls"
	"errors"
	"net"
	"strconv"
	"time"
)

// SpeaksTLS tells whether a server that hung up on SSH speaks TLS instead: many web servers
// say nothing to a client that does not begin a handshake. The handshake is broken off at
// the server's certificate, before anything of ours is sent.
func SpeaksTLS(ctx context.Context, host string, port int, timeout time.Duration) bool {
	met := false
	errEnough := errors.New("enough was seen")
	dialer := tls.Dialer{NetDialer: &net.Dialer{Timeout: timeout}, Config: &tls.Config{
		// No certificate is trusted here; the handshake never ends well.
		InsecureSkipVerify: true,
		VerifyConnection: func(tls.ConnectionState) error {
			met = true
			return errEnough
		},
	}}
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	conn, err := dialer.DialContext(ctx, "tcp", net.JoinHostPort(host, strconv.Itoa(port)))
	if err == nil {
		_ = conn.Close()
	}
	return met
}
