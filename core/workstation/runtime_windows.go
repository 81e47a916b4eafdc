package workstation

import (
	"hash/fnv"
	"strconv"
)

// holderSockets is the named pipe on which the holder listens: one for each person and
// state folder.
func (s *Station) holderSockets() []string {
	sum := fnv.New64a()
	_, _ = sum.Write([]byte(s.State))
	return []string{`\\.\pipe\unicrux-` + strconv.FormatUint(sum.Sum64(), 16)}
}
