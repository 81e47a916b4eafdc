package audit

import (
	"crypto/sha256"
	"encoding/hex"
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
