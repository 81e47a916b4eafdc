package tokens

import (
	"bytes"
	"fmt"
	"strings"

	"anchorage.example/unicrux/core/describe"
	"anchorage.example/unicrux/core/hostapi"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/core/sshkey"
)

// Pasted cleans what somebody pasted as a token, and recognises what is something else: without
// asking anybody, and without telling it in the error.
func Pasted(d *describe.Description, text secret.Text, others []*describe.Description) (secret.Text, error) {
	clean := bytes.TrimSpace(text.Reveal())
	if d.IsLearned() { // it may take the account's password, which can be any text
		switch {
		case len(clean) == 0:
			return text, fmt.Errorf("%w: there is nothing in it", ErrNotToken)
		case bytes.Contains(clean, []byte("PRIVATE KEY")), isPublicLine(clean):
			return text, fmt.Errorf("%w: it is a key of ssh's", ErrNotToken)
		}
		return secret.New(bytes.Clone(clean)), nil
	}
	for _, quote := range []string{`"`, `'`, "`"} {
		if len(clean) > 1 && bytes.HasPrefix(clean, []byte(quote)) && bytes.HasSuffix(clean, []byte(quote)) {
			clean = bytes.TrimSpace(clean[1 : len(clean)-1])
		}
	}
	clean = bytes.TrimSpace(bytes.TrimPrefix(bytes.TrimPrefix(clean, []byte("Bearer ")), []byte("token=")))
	word := string(clean)
	switch {
	case word == "":
		return text, fmt.Errorf("%w: there is nothing in it", ErrNotToken)
	case strings.Contains(word, "PRIVATE KEY"):
		return text, fmt.Errorf("%w: it is a private key, which belongs on no page and in no field", ErrNotToken)
	case isPublicLine(clean):
		return text, fmt.Errorf("%w: it is the public line of a key, for unicrux key register", ErrNotToken)
	case strings.HasPrefix(word, "SHA256:"):
		return text, fmt.Errorf("%w: it is the fingerprint of a key", ErrNotToken)
	case strings.Contains(word, "://"):
		return text, fmt.Errorf("%w: it is an address", ErrNotToken)
	case strings.ContainsAny(word, "…•*") || strings.Contains(word, "..."):
		return text, fmt.Errorf("%w: it was shortened, as web pages show old tokens; make a new one", ErrNotToken)
	case strings.ContainsFunc(word, func(r rune) bool { return r <= ' ' || r == 0x7f }):
		return text, fmt.Errorf("%w: a token has no white space in it", ErrNotToken)
	}
	if d.Tokens.Form != "" && !hostapi.FitsForm(d, word) {
		for _, other := range others {
			if other.Tokens.Form != "" && other.HTTPSAt() != d.HTTPSAt() && hostapi.FitsForm(other, word) {
				return text, fmt.Errorf("%w of %s: it has the form of those of %s", ErrNotToken, d.Name, other.Name)
			}
		}
		return text, fmt.Errorf(
			"%w of %s: those have another form, so this may be the account's password, or a part of a token",
			ErrNotToken,
			d.Name,
		)
	}
	return secret.New(bytes.Clone(clean)), nil
}

// isPublicLine tells whether it is one, or the beginning of one.
func isPublicLine(text []byte) bool {
	_, _, err := sshkey.ParseLine(text)
	return err == nil || bytes.HasPrefix(text, []byte("ssh-")) || bytes.HasPrefix(text, []byte("ecdsa-sha2-"))
}
