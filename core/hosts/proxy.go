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

// proxyFor leads to a host's interface. A host on this very computer is gone to directly.
func proxyFor(station *workstation.Station, d *describe.Description) func(*http.Request) (*url.URL, error) {
	if at, err := netip.ParseAddr(d.Interface.Address); err == nil && at.IsLoopback() {
		return nil
	}
	return ProxyTo(station, d.Interface.URL)
}
