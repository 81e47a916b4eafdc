package workstation

import (
	"os"
	"path/filepath"
	"time"

	"anchorage.example/unicrux/core/disk"
	"anchorage.example/unicrux/core/regular"
)

// Cached returns what [Station.Keep] kept under a name, if it is not older than age.
func (s *Station) Cached(name string, age time.Duration) ([]byte, bool) {
	path := filepath.Join(s.Cache, name)
	info, err := os.Stat(path)
	if s.Cache == "" || err != nil || time.Since(info.ModTime()) > age {
		return nil, false
	}
	text, err := regular.ReadOwn(path, maxRecord)
	return text, err == nil
}

// Keep puts something into the cache that can be found out again. Where that fails it is
// found out again: so nobody is told, and it is no change.
func (s *Station) Keep(name string, content []byte) {
	if s.Cache == "" {
		return
	}
	_ = AsOwner(s.Cache, func() error {
		if err := disk.MkdirAll(s.Cache, 0o700); err != nil {
			return err
		}
		done, err := MayLeave(s.State, Leaving{Beside: []string{s.Cache}})
		if err != nil {
			return err
		}
		defer done()
		return replace(filepath.Join(s.Cache, name), content, 0o600)
	})
}
