package renewal

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"

	"anchorage.example/unicrux/core/fault"
	"anchorage.example/unicrux/core/find"
	"anchorage.example/unicrux/core/gitlink"
	"anchorage.example/unicrux/core/hosts"
	"anchorage.example/unicrux/core/regular"
	"anchorage.example/unicrux/core/signing"
	"anchorage.example/unicrux/core/site"
	"anchorage.example/unicrux/core/sshconfig"
	"anchorage.example/unicrux/core/sshkey"
	"anchorage.example/unicrux/core/workstation"
)

// Retired says what became of a key that was retired.
type Retired struct {
	Hosts  []string            // that do not know it any more
	ByHand []string            // that must be told by hand to forget it
	Left   []sshconfig.Mention // lines of the person's own that still name it
}

// Retire withdraws a key everywhere, makes agents forget it, takes it out of our settings,
// and sets its files aside. With hereOnly hosts are left as they are. Run again, it goes on.
func Retire(ctx context.Context, p site.Site, batch *workstation.Batch, pair *sshkey.Pair, hereOnly bool,
	secrets site.Secrets, told func(string)) (*Retired, error) {
	retired := &Retired{}
	if err := signs(ctx, p, pair); err != nil {
		return nil, err
	}
	if !hereOnly {
		if pair.Public == nil {
			return nil, sshkey.ErrLocked
		}
		where, err := knowing(ctx, p, pair, nil)
		if err != nil {
			return nil, err
		}
		renewed := &Renewed{}
		for _, host := range where {
			err = leave(ctx, p, batch, host, Renewal{Old: pair, Told: told}, renewed, secrets)
			retired.Hosts, retired.ByHand = renewed.Hosts, renewed.ByHand
			if err != nil {
				return retired, err
			}
		}
	}
	if err := takeOutOfSettings(p, batch, pair); err != nil {
		return retired, err
	}
	for _, mention := range find.Mentions(p.Station)[pair.Path] {
		if !hosts.Ours(p.Station, mention.Origin) {
			retired.Left = append(retired.Left, mention)
		}
	}
	return retired, takeOut(ctx, p, batch, pair)
}

// ErrSigns is returned for a key with which git signs: without it, commits could not be made any more.
var ErrSigns = fault.New("renewal-signs", fault.Refused, "git signs with this key")

// signs tells whether git signs with a pair, and where that is said.
func signs(ctx context.Context, p site.Site, pair *sshkey.Pair) error {
	config, err := gitlink.ReadConfig(ctx, p.Station)
	if err != nil {
		return nil // without git, or with settings that it does not read, nothing signs
	}
	if use, signs := signing.Of(config, p.Station); signs && use.Leads(pair) {
		return fmt.Errorf("%s: %w (%s)", pair.Name(), ErrSigns, p.Station.Tilde(use.Where.Origin))
	}
	return nil
}

// takeOutOfSettings takes a key out of our own file. Settings of the person's are theirs.
func takeOutOfSettings(p site.Site, batch *workstation.Batch, pair *sshkey.Pair) error {
	text, err := regular.Read(hosts.OurFile(p.Station), regular.Settings)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	for _, name := range hosts.Settled(text) {
		leads := slices.ContainsFunc(sshconfig.InBlock(text, []string{name}, "identityfile"), func(value string) bool {
			return p.Station.KeyPath(value) == pair.Path
		})
		if !leads {
			continue
		}
		words := fmt.Sprintf("Take %s out of the settings for %s.", pair.Name(), name)
		err := hosts.EditOurs(batch, p.Station, words, func(old []byte) ([]byte, error) {
			return hosts.WithoutKey(old, name)
		})
		if err != nil {
			return err
		}
	}
	return nil
}
