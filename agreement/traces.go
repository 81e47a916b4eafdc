package agreement

import (
	"encoding/base64"
	"encoding/hex"
	"net/url"
	"strings"
)

// window is how much of a secret, in characters of the text that holds it, counts as a trace of it.
const window = 12

// Trace looks for a secret in a text: as it is, in base64 wherever it begins there, in hexadecimal digits, and
// escaped as in a URL. It returns what it found, or nothing. A part of the secret is enough.
func Trace(text, secret string) string {
	forms := []string{secret, hex.EncodeToString([]byte(secret)), url.QueryEscape(secret)}
	for offset := range 3 { // base64 takes three octets at once
		whole := base64.StdEncoding.EncodeToString([]byte(strings.Repeat("\x00", offset) + secret))
		from := (offset*8 + 5) / 6 // the characters that tell of the secret alone
		to := (offset + len(secret)) * 8 / 6
		forms = append(forms, whole[from:to], strings.NewReplacer("+", "-", "/", "_").Replace(whole[from:to]))
	}
	for _, form := range forms {
		for i := 0; i+window <= len(form); i++ {
			if strings.Contains(text, form[i:i+window]) {
				return form[i : i+window]
			}
		}
	}
	return ""
}
