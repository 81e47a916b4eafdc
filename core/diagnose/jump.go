package diagnose

import (
	"context"
	"strings"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/sshconfig"
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

// jumpAddress is one hop of ProxyJump.
func jumpAddress(hop string) address.Address {
	jump := sshconfig.ParseJump(hop)
	return address.Address{Scheme: "ssh", User: jump.User, Host: jump.Host, Port: uint16(jump.Port)}
}
