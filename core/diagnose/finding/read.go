package finding

import (
	"anchorage.example/unicrux/core/causes"
	"anchorage.example/unicrux/core/diagnose/seen"
	"anchorage.example/unicrux/core/redact"
	"anchorage.example/unicrux/core/untrusted"
)

// Read is the crux that the words of a client name: proved where the words alone tell, else likely. It is nil where
// they name none.
func Read(said string, evidence ...Evidence) *Crux {
	read := causes.Explain(said)
	if len(read.Causes) == 0 {
		return nil
	}
	certainty := Likely
	if read.Conclusive {
		certainty = Proved
	}
	words := untrusted.Clean(redact.Text(read.Causes[0].Line))
	return New(read.Causes[0].Code, certainty, evidence...).With(Saw(seen.GitSays, untrusted.Quote(words), ""))
}
