package workstation

import (
	"hash/fnv"
	"strconv"
)

// HolderSocket is the named pipe on which the holder listens: one for each person and
// state folder.
func (s *Station) HolderSocket() string {
	sum := fnv.New64a()
	_, _ = sum.Write([]byte(s.State))
	return `\\.\pipe\unicrux-` + strconv.FormatUint(sum.Sum64(), 16)
}
