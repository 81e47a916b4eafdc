package sshconfig

import (
	"context"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"anchorage.example/unicrux/core/allow"
)

// canonical finds the name that the client goes on with after the first pass
// ("CanonicalizeHostname" in [CONF]): the host in the first of the domains in which it
// exists, else as it is; and where the name servers call it by another name, that one, if settings permit it
// (CanonicalizePermittedCNAMEs). It asks for the second pass where canonicalisation is on.
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
	most, err := strconv.Atoi(s.or("canonicalizemaxdots", "1"))
	if err == nil && strings.Count(host, ".") <= most && !strings.HasSuffix(host, ".") && s.Query.Exists != nil {
		for _, domain := range s.domains() {
			full := host + "." + allow.LowerHost(domain)
			if alias, found := s.Query.Exists(full); found {
				return s.follow(full, alias)
			}
		}
	}
	if len(s.All("canonicalizepermittedcnames")) > 0 && s.Query.Exists != nil {
		if alias, found := s.Query.Exists(host); found {
			return s.follow(host, alias)
		}
	}
	return host
}

// domains are those of CanonicalDomains, up to "none".
func (s *Settings) domains() []string {
	var list []string
	for _, value := range s.All("canonicaldomains") {
		list = append(list, value.Args...)
	}
	if i := slices.IndexFunc(list, func(domain string) bool { return strings.EqualFold(domain, "none") }); i >= 0 {
		list = list[:i]
	}
	return list
}

// follow goes on with the name by which name servers call a host, where a rule permits that: patterns of names, a
// colon, patterns of names that they may stand for (check_follow_cname of the OpenSSH sources).
func (s *Settings) follow(name, alias string) string {
	alias = allow.LowerHost(strings.TrimSuffix(alias, "."))
	for _, value := range s.All("canonicalizepermittedcnames") {
		for _, rule := range value.Args {
			from, to, found := strings.Cut(strings.ToLower(rule), ":")
			if found && alias != "" && matchList(name, from) && matchList(alias, to) {
				return alias
			}
		}
	}
	return name
}

// namePatience bounds a question to the name servers.
const namePatience = 5 * time.Second

// ByNameServers asks the name servers whether a name exists, and by which name they call it, for [Query.Exists].
func ByNameServers(name string) (alias string, exists bool) {
	ctx, cancel := context.WithTimeout(context.Background(), namePatience)
	defer cancel()
	found, err := net.DefaultResolver.LookupHost(ctx, name)
	if err != nil || len(found) == 0 {
		return "", false
	}
	alias, _ = net.DefaultResolver.LookupCNAME(ctx, name) // none is no alias
	return alias, true
}
