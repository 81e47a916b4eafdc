package hosts

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/regular"
	"anchorage.example/unicrux/core/workstation"
)

// choice begins the name of a setting that says which of several things a lookup means.
const choice = "chosen."

func chosenFile(station *workstation.Station, d *describe.Description) string {
	return filepath.Join(folder(station), strings.TrimPrefix(d.Name, d.ForAccount+"@")+".chosen")
}

// readChosen reads what was chosen at a host, by the names of its lookups.
func readChosen(station *workstation.Station, d *describe.Description) (map[string]string, error) {
	path := chosenFile(station, d)
	text, err := regular.Read(path, regular.Settings)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	chosen := map[string]string{}
	if err == nil {
		err = toml.Unmarshal(text, &chosen)
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return chosen, nil
}

// SetChosen keeps which of several things a lookup of the host's description means from now on; an empty value takes
// the choice back. The error wraps [ErrSetting] where the description has no such lookup, or one that asks nobody.
func SetChosen(batch *workstation.Batch, station *workstation.Station, d *describe.Description, lookup,
	value string) error {
	if l, found := d.Lookups[lookup]; !found || len(l.Ask) == 0 {
		return fmt.Errorf("%s%s: %w: the description of %s has no lookup of this name with several results", choice,
			lookup, ErrSetting, d.Name)
	}
	chosen := maps.Clone(d.Chosen)
	if chosen == nil {
		chosen = map[string]string{}
	}
	chosen[lookup] = value
	if value == "" {
		delete(chosen, lookup)
	}
	d.Chosen = chosen
	if len(chosen) == 0 {
		return batch.Remove(chosenFile(station, d), fmt.Sprintf("Forget what was chosen at %s.", d.Name))
	}
	_, err := batch.Edit(chosenFile(station, d), fmt.Sprintf("Keep %s as the %s at %s.", value, lookup, d.Name), 0o600,
		func([]byte) ([]byte, error) {
			var b strings.Builder
			for _, name := range slices.Sorted(maps.Keys(chosen)) {
				line, err := toml.Marshal(map[string]string{name: chosen[name]})
				if err != nil {
					return nil, err
				}
				b.Write(line)
			}
			return []byte(b.String()), nil
		})
	return err
}

// splitChosen takes apart the pairs of [Set] that are choices, and all others.
func splitChosen(pairs []string) (others, choices []string) {
	for _, pair := range pairs {
		if strings.HasPrefix(pair, choice) && strings.Contains(pair, "=") {
			choices = append(choices, pair)
		} else {
			others = append(others, pair)
		}
	}
	return others, choices
}

// setChosen keeps choices, each chosen.LOOKUP=VALUE.
func setChosen(batch *workstation.Batch, station *workstation.Station, d *describe.Description, pairs []string) error {
	for _, pair := range pairs {
		name, value, _ := strings.Cut(pair, "=")
		if d == nil {
			return fmt.Errorf("%s: %w: only the description of a host has lookups", name, ErrSetting)
		}
		if err := SetChosen(batch, station, d, strings.TrimPrefix(name, choice), value); err != nil {
			return err
		}
	}
	return nil
}
