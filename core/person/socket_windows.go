package person

import (
	"crypto/rand"
	"encoding/hex"
	"os"
	"path/filepath"
	"strings"
)

// holderSockets is the named pipe on which the holder listens. Anybody may make a pipe of any name,
// and the first one has it: so a part of the name is random, and stands in a file that nobody else
// may read.
func (p Person) holderSockets(name string) []string {
	return []string{`\\.\pipe\unicrux-` + p.pipeWord() + "-" + name}
}

// pipeWord is the random part. Where it can be neither read nor made there is no holder.
func (p Person) pipeWord() string {
	file := filepath.Join(p.State, "run", "pipe")
	for range 2 {
		if text, err := os.ReadFile(file); err == nil && len(text) == 32 {
			return strings.TrimSpace(string(text))
		}
		var word [16]byte
		_, _ = rand.Read(word[:]) // never fails (crypto/rand)
		if os.MkdirAll(filepath.Dir(file), 0o700) != nil {
			break
		}
		f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
		if err != nil {
			continue
		}
		_, _ = f.WriteString(hex.EncodeToString(word[:]))
		_ = f.Close() // it is read again
	}
	return "nowhere"
}

func join(parts ...string) string          { return filepath.Join(parts...) }
func clean(name string) string             { return filepath.Clean(name) }
func last(name string) string              { return filepath.Base(name) }
func isAbsolute(name string) bool          { return filepath.IsAbs(name) }
func absolute(name string) (string, error) { return filepath.Abs(name) }
