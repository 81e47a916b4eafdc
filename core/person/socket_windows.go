package person

import (
	"hash/fnv"
	"path/filepath"
	"strconv"
)

// holderSockets is the named pipe on which the holder listens: one for each person and
// state folder.
func (p Person) holderSockets() []string {
	sum := fnv.New64a()
	_, _ = sum.Write([]byte(p.State))
	return []string{`\\.\pipe\unicrux-` + strconv.FormatUint(sum.Sum64(), 16)}
}

func join(parts ...string) string          { return filepath.Join(parts...) }
func clean(name string) string             { return filepath.Clean(name) }
func last(name string) string              { return filepath.Base(name) }
func isAbsolute(name string) bool          { return filepath.IsAbs(name) }
func absolute(name string) (string, error) { return filepath.Abs(name) }
