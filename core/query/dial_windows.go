package query

import (
	"io"

	"anchorage.example/unicrux/core/peer"
)

// dial opens the holder's named pipe.
func dial(socket string) (io.ReadWriteCloser, error) { return peer.Dial(socket) }
