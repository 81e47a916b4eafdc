package wire

import (
	"bufio"
	"context"
	"crypto/tls"
	"encoding/base64"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"golang.org/x/net/proxy"

	"anchorage.example/unicrux/core/fault"
)

// Reasons for which [Tunnel] gets no connection through a proxy, for errors.Is.
var (
	ErrNoProxy      = fault.New("connection-no-proxy", fault.Refused, "the proxy cannot be reached")
	ErrProxyRefuses = fault.New("connection-proxy-refuses", fault.Refused, "the proxy declines")
	ErrProxySignIn  = errors.New("the proxy wants to know who asks")
)

// Tunnel connects to target (host:port) through a proxy: http://host:port by CONNECT
// (RFC 9110, section 9.3.6), the same over TLS for https, socks5://host:port by RFC 1928. The
// name is resolved there. A user and password in the URL of the proxy go to it alone.
func Tunnel(ctx context.Context, at *url.URL, target string, timeout time.Duration) (net.Conn, error) {
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	switch at.Scheme {
	case "socks5", "socks5h", "socks":
		return socks(ctx, at, target)
	case "http", "https":
		return connectBy(ctx, at, target)
	}
	return nil, fmt.Errorf("%s: %w: neither http nor socks5", at.Scheme, errors.ErrUnsupported)
}

// proxyPorts are what curl(1) takes where a proxy's URL names no port.
var proxyPorts = map[string]string{"http": "1080", "https": "443"}

func proxyAddress(at *url.URL) string {
	if at.Port() != "" {
		return at.Host
	}
	port := proxyPorts[at.Scheme]
	if port == "" {
		port = "1080"
	}
	return net.JoinHostPort(at.Hostname(), port)
}

// A noting dialer remembers whether the proxy itself could be reached.
type noting struct{ reached bool }

func (n *noting) Dial(network, address string) (net.Conn, error) {
	return n.DialContext(context.Background(), network, address)
}

func (n *noting) DialContext(ctx context.Context, network, address string) (net.Conn, error) {
	conn, err := (&net.Dialer{}).DialContext(ctx, network, address)
	n.reached = err == nil
	return conn, err
}

func socks(ctx context.Context, at *url.URL, target string) (net.Conn, error) {
	var who *proxy.Auth
	if at.User != nil {
		password, _ := at.User.Password()
		who = &proxy.Auth{User: at.User.Username(), Password: password}
	}
	note := &noting{}
	dialer, err := proxy.SOCKS5("tcp", proxyAddress(at), who, note)
	if err != nil {
		return nil, err
	}
	conn, err := dialer.(proxy.ContextDialer).DialContext(ctx, "tcp", target)
	switch {
	case err == nil:
		return conn, nil
	case !note.reached:
		return nil, fmt.Errorf("%s: %w", at.Host, ErrNoProxy)
	case strings.Contains(err.Error(), "authentication"): // the library has no type for it
		return nil, fmt.Errorf("%s: %w", at.Host, ErrProxySignIn)
	}
	return nil, fmt.Errorf("%s: %w: %w", at.Host, ErrProxyRefuses, err)
}

func connectBy(ctx context.Context, at *url.URL, target string) (net.Conn, error) {
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", proxyAddress(at))
	if err != nil {
		return nil, fmt.Errorf("%s: %w: %w", at.Host, ErrNoProxy, err)
	}
	deadline, _ := ctx.Deadline() // one is always set
	if err := conn.SetDeadline(deadline); err != nil {
		return nil, errors.Join(err, conn.Close())
	}
	if at.Scheme == "https" {
		conn = tls.Client(conn, &tls.Config{ServerName: at.Hostname()})
	}
	request := &http.Request{Method: http.MethodConnect, URL: &url.URL{Opaque: target}, Host: target,
		Header: http.Header{"User-Agent": {"unicrux"}}}
	if at.User != nil {
		password, _ := at.User.Password()
		request.Header.Set("Proxy-Authorization",
			"Basic "+base64.StdEncoding.EncodeToString([]byte(at.User.Username()+":"+password)))
	}
	if err := request.Write(conn); err != nil {
		return nil, errors.Join(fmt.Errorf("%s: %w", at.Host, ErrNoProxy), conn.Close())
	}
	reader := bufio.NewReader(conn)
	response, err := http.ReadResponse(reader, request)
	switch {
	case err != nil:
		return nil, errors.Join(fmt.Errorf("%s: %w: it does not answer as a proxy does", at.Host,
			ErrNoProxy), conn.Close())
	case response.StatusCode == http.StatusProxyAuthRequired:
		return nil, errors.Join(fmt.Errorf("%s: %w", at.Host, ErrProxySignIn), conn.Close())
	case response.StatusCode != http.StatusOK:
		return nil, errors.Join(fmt.Errorf("%s: %w: %s", at.Host, ErrProxyRefuses, response.Status), conn.Close())
	}
	return &tunnelled{Conn: conn, reader: reader}, conn.SetDeadline(time.Time{})
}

// tunnelled is a connection of which something was read ahead: a server may speak first.
type tunnelled struct {
	net.Conn
	reader *bufio.Reader
}

func (t *tunnelled) Read(b []byte) (int, error) { return t.reader.Read(b) }
