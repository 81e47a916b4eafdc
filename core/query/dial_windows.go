package query

import (
	"io"
	"os"
)

// dial opens the holder's named pipe.
func dial(socket string) (io.ReadWriteCloser, error) { return os.OpenFile(socket, os.O_RDWR, 0) }
