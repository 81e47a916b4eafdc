package cli

import "golang.org/x/sys/unix"

// The calls by which a terminal's settings are read and set, at once.
const getTermios, setTermios = unix.TCGETS, unix.TCSETS
