package wire

import (
	"context"
	"errors"
	"net"
	"os"
	"slices"
	"strconv"
	"syscall"
)

// connect finds the host and opens the connection, trying its addresses in order as the
// ssh client does.
func (w *walker) connect(ctx context.Context) (net.Conn, error) {
	if w.plan.Proxy != "" {
		w.pass(AtConnect)
		conn, err := dialCommand(ctx, w.plan.Proxy)
		if err != nil {
			return nil, w.fail(ErrProxy, err.Error())
		}
		return conn, nil
	}
	addresses, err := w.resolve(ctx)
	if err != nil {
		return nil, err
	}
	w.pass(AtConnect)
	var last error
	for _, ip := range addresses {
		target := net.JoinHostPort(ip.String(), strconv.Itoa(w.plan.Port))
		dialer := net.Dialer{Timeout: w.plan.Timeout}
		conn, err := dialer.DialContext(ctx, "tcp", target)
		if err == nil {
			w.trip.Connected = target
			return conn, nil
		}
		if last = err; dialReason(err) == ErrSilent && w.trip.Silent == "" {
			w.trip.Silent = target
		}
	}
	return nil, w.fail(dialReason(last), "")
}

func (w *walker) resolve(ctx context.Context) ([]net.IPAddr, error) {
	ctx, cancel := context.WithTimeout(ctx, w.plan.Timeout)
	defer cancel()
	addresses, err := net.DefaultResolver.LookupIPAddr(ctx, w.plan.Host)
	addresses = slices.DeleteFunc(addresses, func(a net.IPAddr) bool { return !w.plan.inFamily(a.IP) })
	if err == nil && len(addresses) > 0 {
		return addresses, nil
	}
	if err == nil || DialReason(err) == ErrNameUnknown {
		return nil, w.fail(ErrNameUnknown, "")
	}
	return nil, w.fail(ErrNoNames, "")
}

// inFamily tells whether an address is of the family that the plan allows.
func (p Plan) inFamily(ip net.IP) bool {
	switch p.Family {
	case "inet":
		return ip.To4() != nil
	case "inet6":
		return ip.To4() == nil
	}
	return true
}

// DialReason is why a connection could not be made, as one of the reasons of this package; nil for an
// error of another kind.
func DialReason(err error) error {
	var dns *net.DNSError
	var dial *net.OpError
	switch {
	case errors.As(err, &dns) && dns.IsNotFound:
		return ErrNameUnknown
	case errors.As(err, &dns):
		return ErrNoNames
	case errors.As(err, &dial) && dial.Op == "dial":
		return dialReason(err)
	}
	return nil
}

func dialReason(err error) error {
	var timeout interface{ Timeout() bool }
	switch {
	case errors.Is(err, syscall.ECONNREFUSED):
		return ErrRefused
	case errors.Is(err, syscall.ENETUNREACH), errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETDOWN):
		return ErrNoRoute
	case errors.Is(err, syscall.EPERM), errors.Is(err, syscall.EACCES):
		return ErrForbidden
	case errors.Is(err, syscall.ECONNRESET):
		return ErrHungUp
	case errors.Is(err, os.ErrDeadlineExceeded), errors.As(err, &timeout) && timeout.Timeout():
		return ErrSilent
	}
	return ErrRefused
}

// A tap keeps the first bytes that a server sends, so that we can tell what it is when it
// is no SSH server.
type tap struct {
	net.Conn
	first   []byte
	written int // bytes
}

func (t *tap) Write(p []byte) (int, error) {
	n, err := t.Conn.Write(p)
	t.written += n
	return n, err
}

func (t *tap) Read(p []byte) (int, error) {
	n, err := t.Conn.Read(p)
	if room := maxFirstBytes - len(t.first); room > 0 {
		t.first = append(t.first, p[:min(n, room)]...)
	}
	return n, err
}
