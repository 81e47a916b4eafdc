package chest

import (
	"encoding/json"
	"strconv"
	"strings"
)

// A format is the version of a file of a chest, which is written as “unicrux-chest/1”. 0 is for a file that names none.
type format int

// version is that of all files of a chest. One with a higher version is left as it is ([ErrNewer]).
const version format = 1

const formatName = "unicrux-chest/"

// MarshalJSON writes the name and the version.
func (f format) MarshalJSON() ([]byte, error) { return json.Marshal(formatName + strconv.Itoa(int(f))) }

// UnmarshalJSON reads what MarshalJSON wrote. The error is [ErrDamaged] for another format.
func (f *format) UnmarshalJSON(text []byte) error {
	var name string
	if json.Unmarshal(text, &name) != nil {
		return ErrDamaged
	}
	number, found := strings.CutPrefix(name, formatName)
	n, err := strconv.Atoi(number)
	if !found || err != nil || n < 1 {
		return ErrDamaged
	}
	*f = format(n)
	return nil
}

// of says what is wrong with a file of this format: nothing, or that another version wrote it, or that it is damaged.
// summed is whether it has a sum, as the files of every version have.
func (f format) of(summed bool) error {
	switch {
	case f > version:
		return ErrNewer
	case f < version && summed:
		return ErrOlder
	case f < version:
		return ErrDamaged
	}
	return nil
}
