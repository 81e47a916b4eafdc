package diagnose

import (
	"context"
	"strconv"
	"strings"

	"Unicrux/core/address"
)

// atJump goes to the jump hosts one after another, as ssh would, and tells the crux of the first
// that is closed. What mends it mends the way.
func (c *checker) atJump(ctx context.Context) []Evidence {
	for _, hop := range strings.Split(c.passage.Client.ProxyJump, ",") {
		at := jumpAddress(hop)
		jump := &checker{station: c.station, registry: c.registry, config: c.config, hg: c.hg, way: newWay(), address: at,
			host: c.registry.ForHost(at.Host), request: Request{Timeout: min(c.timeout(), patience), Ask: NobodyAsks, second: true}}
		jump.way.Question = Question{Host: jump.hostName(), Transport: "ssh", Purpose: Clone}
		found, err := jump.settle(ctx)
		if err == nil && found == nil {
			found, err = jump.travel(ctx)
		}
		if jump.passage != nil {
			_ = jump.passage.Close() // nothing of the agent's is ours to lose
		}
		if err != nil {
			return nil
		}
		if found != nil {
			c.jumpMends = jump.mends(found)
			return append([]Evidence{{"at " + at.Host, found.Summary, string(found.Code)}}, found.Evidence...)
		}
	}
	return []Evidence{{"by themselves", "the jump hosts let us in: they do not lead on from there", ""}}
}

// jumpAddress reads one hop of ProxyJump: [user@]host[:port], or the same behind ssh:// (ssh_config(5)).
func jumpAddress(hop string) address.Address {
	a := address.Address{Scheme: "ssh", Host: strings.TrimPrefix(strings.TrimSpace(hop), "ssh://")}
	if i := strings.LastIndexByte(a.Host, '@'); i >= 0 {
		a.User, a.Host = a.Host[:i], a.Host[i+1:]
	}
	if i := strings.LastIndexByte(a.Host, ':'); i > 0 && !strings.HasSuffix(a.Host, "]") {
		if port, err := strconv.ParseUint(a.Host[i+1:], 10, 16); err == nil {
			a.Host, a.Port = a.Host[:i], uint16(port)
		}
	}
	a.Host = strings.Trim(a.Host, "[]")
	return a
}
