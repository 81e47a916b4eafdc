package wire

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"time"

	"golang.org/x/net/proxy"
)

// Reasons for which a proxy does not lead anywhere, for errors.Is.
var (
	ErrNoProxy      = errors.New("the proxy cannot be reached")
	ErrProxyRefuses = errors.New("the proxy declines")
)

// Tunnel connects to target (host:port) through a proxy: http://host:port by CONNECT
// (RFC 9110, section 9.3.6), socks5://host:port by RFC 1928. The name is resolved there.
func Tunnel(ctx context.Context, at *url.URL, target string, timeout time.Duration) (net.Conn, error) {
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	switch at.Scheme {
	case "socks5":
		dialer, err := proxy.SOCKS5("tcp", at.Host, nil, &net.Dialer{})
		if err != nil {
			return nil, err
		}
		conn, err := dialer.(proxy.ContextDialer).DialContext(ctx, "tcp", target)
		if err != nil {
			return nil, fmt.Errorf("%s: %w: %w", at.Host, ErrNoProxy, err)
		}
		return conn, nil
	case "http":
		return connectBy(ctx, at.Host, target)
	}
	return nil, fmt.Errorf("%s: %w: neither http nor socks5", at.Scheme, errors.ErrUnsupported)
}

func connectBy(ctx context.Context, at, target string) (net.Conn, error) {
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", at)
	if err != nil {
		return nil, fmt.Errorf("%s: %w: %w", at, ErrNoProxy, err)
	}
	deadline, _ := ctx.Deadline() // one is always set
	if err := conn.SetDeadline(deadline); err != nil {
		return nil, errors.Join(err, conn.Close())
	}
	request := &http.Request{Method: http.MethodConnect, URL: &url.URL{Opaque: target}, Host: target, Header: http.Header{"User-Agent": {"unicrux"}}}
	if err := request.Write(conn); err != nil {
		return nil, errors.Join(fmt.Errorf("%s: %w", at, ErrNoProxy), conn.Close())
	}
	reader := bufio.NewReader(conn)
	response, err := http.ReadResponse(reader, request)
	if err != nil {
		return nil, errors.Join(fmt.Errorf("%s: %w: it does not answer as a proxy does", at, ErrNoProxy), conn.Close())
	}
	if response.StatusCode != http.StatusOK {
		return nil, errors.Join(fmt.Errorf("%s: %w: %s", at, ErrProxyRefuses, response.Status), conn.Close())
	}
	return &tunnelled{Conn: conn, reader: reader}, conn.SetDeadline(time.Time{})
}

// tunnelled is a connection of which something was read ahead: a server may speak first.
type tunnelled struct {
	net.Conn
	reader *bufio.Reader
}

func (t *tunnelled) Read(b []byte) (int, error) { return t.reader.Read(b) }
