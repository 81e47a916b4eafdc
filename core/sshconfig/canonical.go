package sshconfig

import (
	"context"
	"net"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"Unicrux/core/allow"
)

// canonical finds the name that the client goes on with after the first pass
// ("CanonicalizeHostname" in [CONF]): the host in the first of the domains in which it
// exists, else as it is. It asks for the second pass where canonicalisation is on.
// CNAME records are not followed (CanonicalizePermittedCNAMEs).
func (s *Settings) canonical() string {
	host := allow.LowerHost(s.Query.Host)
	if name, _, found := s.First("hostname"); found {
		host = allow.LowerHost(expandHostName(name, s.Query.Host))
	}
	mode := strings.ToLower(s.or("canonicalizehostname", "no"))
	if isNo(mode) {
		return host
	}
	s.final = true
	c := s.Client()
	proxied := c.ProxyCommand != "" || c.ProxyJump != ""
	if _, err := netip.ParseAddr(host); err == nil || (proxied && mode != "always") {
		return host
	}
	if most, err := strconv.Atoi(s.or("canonicalizemaxdots", "1")); err != nil || strings.Count(host, ".") > most || strings.HasSuffix(host, ".") {
		return host
	}
	for _, value := range s.All("canonicaldomains") {
		for _, domain := range value.Args {
			if full := host + "." + allow.LowerHost(domain); domain != "none" && s.Query.Exists != nil && s.Query.Exists(full) {
				return full
			}
		}
	}
	return host
}

// namePatience bounds a question to the name servers.
const namePatience = 5 * time.Second

// ByNameServers asks the name servers whether a name exists, for [Query.Exists].
func ByNameServers(name string) bool {
	ctx, cancel := context.WithTimeout(context.Background(), namePatience)
	defer cancel()
	found, err := net.DefaultResolver.LookupHost(ctx, name)
	return err == nil && len(found) > 0
}
