package effective

import (
	"context"
	"errors"

	"anchorage.example/unicrux/core/address"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/regular"
	"anchorage.example/unicrux/core/sshconfig"
	"anchorage.example/unicrux/core/workstation"
)

// Overruled lists the settings of our own file for a host that do not hold, because something
// else that is read before it sets the same: ssh takes the first value.
func Overruled(ctx context.Context, station *workstation.Station, hostName string) ([]Setting, error) {
	text, err := regular.Read(hosts.OurFile(station), regular.Settings)
	if err != nil {
		return nil, nil // nothing of ours
	}
	config, err := gitlink.ReadConfig(ctx, station)
	if err != nil && !errors.Is(err, gitlink.ErrNoGit) {
		return nil, err
	}
	settings := sshconfig.Resolve(config.SSH().Query(address.Address{Scheme: "ssh", Host: hostName}, station))
	var list []Setting
	for _, w := range settings.Winners() {
		first := w.Values[0]
		ours := sshconfig.InBlock(text, []string{hostName}, w.Keyword)
		if len(ours) > 0 && !hosts.Ours(station, first.Origin) {
			list = append(list, Setting{Name: w.Keyword, Value: first.Text(), Origin: first.Origin.String(),
				Lost: []Lost{{Value: ours[0], Why: earlierWins}}})
		}
	}
	return list, nil
}
