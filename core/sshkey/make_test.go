package sshkey

import (
	"bytes"
	"crypto/sha256"
	"encoding/pem"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"

	"unicrux/core/secret"
)

// specs are all kinds and sizes, but for rsa only the smallest, which is made soonest.
var specs = []Spec{{}, {Kind: ED25519, Bits: 256}, {Kind: ECDSA}, {Kind: ECDSA, Bits: 384}, {Kind: ECDSA, Bits: 521}, {Kind: RSA, Bits: LeastRSA}}

func TestMakeEveryKind(t *testing.T) {
	for _, spec := range specs {
		made, err := Make(spec)
		if err != nil {
			t.Fatal(err)
		}
		if kind := Kind(made.Key); (spec.Kind != "" && kind != spec.Kind) || (spec.Bits != 0 && Bits(made.Key) != spec.Bits) {
			t.Errorf("%+v made %s of %d bits", spec, kind, Bits(made.Key))
		}
	}
	for _, bad := range []struct {
		spec Spec
		want error
	}{
		{Spec{Kind: "dsa"}, ErrKind}, {Spec{Kind: RSA, Bits: LeastRSA - 1}, ErrSize}, {Spec{Kind: RSA, Bits: mostRSA + 1}, ErrSize},
		{Spec{Kind: ECDSA, Bits: 255}, ErrSize}, {Spec{Bits: 512}, ErrSize},
	} {
		if _, err := Make(bad.spec); !errors.Is(err, bad.want) {
			t.Errorf("%+v: %v, want %v", bad.spec, err, bad.want)
		}
	}
}

// TestFormsReadBack writes every kind in every form, locked and not, and reads it again.
func TestFormsReadBack(t *testing.T) {
	passphrase := secret.New([]byte("seven tides"))
	for _, spec := range specs {
		made, err := Make(spec)
		if err != nil {
			t.Fatal(err)
		}
		private, err := ssh.ParseRawPrivateKey(made.Private)
		if err != nil {
			t.Fatal(err)
		}
		for _, form := range []Form{OpenSSH, PKCS8, PKCS1, SEC1} {
			for _, lock := range []secret.Text{{}, passphrase} {
				text, err := Write(private, "", form, lock)
				fits := form == OpenSSH || form == PKCS8 || (form == PKCS1 && spec.Kind == RSA) || (form == SEC1 && spec.Kind == ECDSA)
				switch {
				case (form == PKCS1 || form == SEC1) && !lock.Empty():
					if !errors.Is(err, ErrFormLock) {
						t.Errorf("%+v as %s, locked: %v", spec, form, err)
					}
				case !fits:
					if !errors.Is(err, ErrFormKind) {
						t.Errorf("%+v as %s: %v", spec, form, err)
					}
				case err != nil:
					t.Errorf("%+v as %s: %v", spec, form, err)
				default:
					readBack(t, form, text, made, lock)
				}
			}
		}
	}
}

func readBack(t *testing.T, form Form, text []byte, made *Made, lock secret.Text) {
	t.Helper()
	path := filepath.Join(t.TempDir(), "key")
	if err := errors.Join(os.WriteFile(path, text, 0o600), os.WriteFile(path+".pub", made.Public, 0o600)); err != nil {
		t.Fatal(err)
	}
	pair, err := Load(path)
	if form == PKCS8 && Kind(made.Key) == ED25519 && lock.Empty() {
		if !errors.Is(err, ErrForm) {
			t.Errorf("ed25519 in PKCS#8: %v, want ErrForm", err)
		}
		return
	}
	if err != nil || pair.Locked == lock.Empty() {
		t.Fatalf("%s: %+v, %v", form, pair, err)
	}
	signer, err := pair.Signer(lock)
	if err != nil || !bytes.Equal(signer.PublicKey().Marshal(), made.Key.Marshal()) {
		t.Errorf("%s: another key comes back, %v", form, err)
	}
	if !lock.Empty() {
		if _, err := pair.Signer(secret.New([]byte("six"))); !errors.Is(err, ErrPassphrase) {
			t.Errorf("%s with a wrong passphrase: %v", form, err)
		}
	}
}

func TestWrite4716(t *testing.T) {
	made, err := Make(Spec{Kind: ECDSA, Bits: 521})
	if err != nil {
		t.Fatal(err)
	}
	text := string(Write4716(made.Key, strings.Repeat("ines ", 30)+`"quoted"`))
	lines := strings.Split(strings.TrimSuffix(text, "\n"), "\n")
	if lines[0] != "---- BEGIN SSH2 PUBLIC KEY ----" || lines[len(lines)-1] != "---- END SSH2 PUBLIC KEY ----" {
		t.Errorf("%s", text)
	}
	for _, line := range lines {
		if len(line) > maxLine4716 {
			t.Errorf("%d characters: %q", len(line), line)
		}
	}
}

func TestEveryBitCountsForTheEye(t *testing.T) {
	digest := sha256.Sum256([]byte("tide"))
	line := fold(digest)
	for bit := range 256 {
		near := digest
		near[bit/8] ^= 1 << (bit % 8)
		if fold(near) == line {
			t.Errorf("bit %d changes nothing", bit)
		}
	}
	for _, level := range line {
		if level < 0 || level >= EyeLevels {
			t.Errorf("a level of %d", level)
		}
	}
}

func FuzzOpenPKCS8(f *testing.F) {
	made, err := Make(Spec{})
	if err != nil {
		f.Fatal(err)
	}
	private, err := ssh.ParseRawPrivateKey(made.Private)
	if err != nil {
		f.Fatal(err)
	}
	text, err := Write(private, "", PKCS8, secret.New([]byte("x")))
	if err != nil {
		f.Fatal(err)
	}
	block, _ := pem.Decode(text)
	f.Add(block.Bytes)
	f.Fuzz(func(t *testing.T, der []byte) {
		if _, err := openPKCS8(der, secret.New([]byte("x"))); err != nil && !errors.Is(err, ErrPassphrase) && !errors.Is(err, ErrNotKey) {
			t.Fatalf("%v", err)
		}
	})
}
