package chest

import (
	"bytes"
	"testing"

	"filippo.io/age"

	"anchorage.example/unicrux/core/secret"
)

// TestAPassphraseIsHardToGuess holds for what people run: only the tests' own program has it easier.
func TestAPassphraseIsHardToGuess(t *testing.T) {
	t.Parallel()
	shipped := Chest{work: passphraseWork}
	sealed, err := shipped.sealBy(secret.New([]byte("a passphrase for tests")), []byte("the key"))
	if err != nil {
		t.Fatal(err)
	}
	const ordinary = 18 // 2^18 rounds of scrypt, the library's own
	for _, c := range []struct {
		work  int
		opens bool
	}{{ordinary - 1, false}, {ordinary, true}} {
		identity, err := age.NewScryptIdentity("a passphrase for tests")
		if err != nil {
			t.Fatal(err)
		}
		identity.SetMaxWorkFactor(c.work) // more work than this is refused
		_, err = age.Decrypt(bytes.NewReader(sealed), identity)
		if (err == nil) != c.opens {
			t.Errorf("whoever tries no more than 2^%d rounds: %v", c.work, err)
		}
	}
}
