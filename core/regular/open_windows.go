package regular

import (
	"io"
)

// NoFollow does nothing: making links takes a right of its own.
const NoFollow = 0

const noWait = 0

func read(path string, most int64, flags int) ([]byte, error) {
	f, err := open(path, flags)
	if err != nil {
		return nil, err
	}
	defer f.Close() // opened for reading
	text, err := io.ReadAll(io.LimitReader(f, most+1))
	if err == nil && int64(len(text)) > most {
		err = tooLarge(path, most)
	}
	if err != nil {
		return nil, err
	}
	return text, nil
}
