package hosts

import (
	"context"
	"net/http"
	"net/netip"
	"net/url"
	"sync"
	"time"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/regular"
	"anchorage.example/unicrux/core/workstation"
)

// ProxyTo leads to an https address as git would be led there: by its settings, else by the
// environment.
func ProxyTo(station *workstation.Station, address string) func(*http.Request) (*url.URL, error) {
	settle := sync.OnceValues(func() (*url.URL, error) {
		target, err := url.Parse(address)
		if err != nil {
			return nil, err
		}
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		config, err := gitlink.ReadConfig(ctx, station)
		if err != nil {
			config = gitlink.NoConfig(station)
		}
		if proxy := config.Web(target).Proxy; proxy != "" {
			return url.Parse(proxy)
		}
		return nil, nil
	})
	return func(*http.Request) (*url.URL, error) { return settle() }
}

// LineTo is how git would reach an https address: its proxy, the certificate authorities that it trusts there, and the
// address at which it is told to find the host. What switches git's look at the certificate off does not count.
func LineTo(ctx context.Context, station *workstation.Station, address string) hostapi.Line {
	line := hostapi.Line{Proxy: ProxyTo(station, address)}
	target, err := url.Parse(address)
	config, configErr := gitlink.ReadConfig(ctx, station)
	if err != nil || configErr != nil {
		return line
	}
	web := config.Web(target)
	line.Address = web.At
	if web.Authority != "" {
		line.Authority, _ = regular.Read(web.Authority, regular.Settings) // without them nobody is trusted less
	}
	return line
}

// proxyFor leads to a host's interface. A host on this very computer is gone to directly.
func proxyFor(station *workstation.Station, d *describe.Description) func(*http.Request) (*url.URL, error) {
	if at, err := netip.ParseAddr(d.Interface.Address); err == nil && at.IsLoopback() {
		return nil
	}
	return ProxyTo(station, d.Interface.URL)
}
