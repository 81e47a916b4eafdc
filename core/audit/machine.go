package audit

import (
	"crypto/sha256"
	"encoding/hex"
	"io"
	"os"
	"strings"

	"anchorage.example/unicrux/core/regular"
)

// machineID tells machines of one name apart, and is not the number itself, which is to stay on the machine
// (machine-id(5)); empty where there is none.
func machineID() string {
	const most = 1 << 10
	text, err := regular.Read("/etc/machine-id", most)
	number := strings.TrimSpace(string(text))
	if err != nil || number == "" {
		return ""
	}
	sum := sha256.Sum256([]byte("unicrux.audit\x00" + number))
	return hex.EncodeToString(sum[:8])
}

// ProgramSum is the SHA-256 of this program's file, in hexadecimal: which program a report is of. It is empty where the
// file cannot be read.
func ProgramSum() string {
	path, err := os.Executable()
	if err != nil {
		return ""
	}
	f, err := regular.Open(path)
	if err != nil {
		return ""
	}
	defer f.Close() // opened for reading
	sum := sha256.New()
	if _, err := io.Copy(sum, f); err != nil {
		return ""
	}
	return hex.EncodeToString(sum.Sum(nil))
}
