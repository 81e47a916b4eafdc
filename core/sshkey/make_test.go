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

	"anchorage.example/unicrux/core/secret"
)

// specs are all kinds and sizes, but for rsa only the smallest, which is made soonest.
var specs = []Spec{{}, {Kind: ED25519, Bits: 256}, {Kind: ECDSA}, {Kind: ECDSA, Bits: 384}, {Kind: ECDSA, Bits: 521},
	{Kind: RSA, Bits: LeastRSA}}

func TestMakeEveryKind(t *testing.T) {
	for _, spec := range specs {
		made, err := Make(spec)
		if err != nil {
			t.Fatal(err)
		}
		if kind := Kind(made.Key); (spec.Kind != "" && kind != spec.Kind) ||
			(spec.Bits != 0 && Bits(made.Key) != spec.Bits) {
			t.Errorf("%+v made %s of %d bits", spec, kind, Bits(made.Key))
		}
	}
	for _, bad := range []struct {
		spec Spec
		want error
	}{
		{Spec{Kind: "dsa"}, ErrKind}, {Spec{Kind: RSA, Bits: LeastRSA - 1}, ErrSize},
		{Spec{Kind: RSA, Bits: mostRSA + 1}, ErrSize},
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
				fits := form == OpenSSH || form == PKCS8 || (form == PKCS1 && spec.Kind == RSA) ||
					(form == SEC1 && spec.Kind == ECDSA)
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
		if _, err := openPKCS8(der, secret.New([]byte("x"))); err != nil && !errors.Is(err, ErrPassphrase) &&
			!errors.Is(err, ErrNotKey) {
			t.Fatalf("%v", err)
		}
	})
}

// TestRead4716 reads what others write: the example of RFC 4716, section 3.6, and files with
// other line ends.
func TestRead4716(t *testing.T) {
	made, err := Make(Spec{})
	if err != nil {
		t.Fatal(err)
	}
	good := string(Write4716(made.Key, "ines at sea"))
	for name, row := range map[string]struct {
		text, comment string
		ok            bool
	}{
		"ours":               {good, "ines at sea", true},
		"CRLF":               {strings.ReplaceAll(good, "\n", "\r\n"), "ines at sea", true},
		"no last line end":   {strings.TrimSuffix(good, "\n"), "ines at sea", true},
		"a header continued": {strings.Replace(good, "ines at", "ines \\\nat", 1), "ines at sea", true},
		"another header":     {strings.Replace(good, "Comment:", "x-mark: buoy\nSubject:", 1), "", true},
		"no end":             {strings.Replace(good, "---- END", "---- STOP", 1), "", false},
		"no key":             {begin4716 + "\nComment: x\n" + end4716, "", false},
		"cut":                {strings.Replace(good, "AAAA", "", 1), "", false},
		"a header behind":    {strings.Replace(good, end4716, "Comment: late\n"+end4716, 1), "", false},
		"nothing":            {"", "", false},
	} {
		key, comment, err := ParsePublic([]byte(row.text))
		if (err == nil) != row.ok ||
			(row.ok && (comment != row.comment || !bytes.Equal(key.Marshal(), made.Key.Marshal()))) {
			t.Errorf("%s: %q, %v", name, comment, err)
		}
	}
}

func FuzzParse4716(f *testing.F) {
	made, err := Make(Spec{Kind: ECDSA})
	if err != nil {
		f.Fatal(err)
	}
	f.Add(Write4716(made.Key, "seed"))
	f.Fuzz(func(t *testing.T, text []byte) {
		key, comment, err := parse4716(text)
		if err != nil {
			return
		}
		again, _, err := parse4716(Write4716(key, comment))
		if err != nil || !bytes.Equal(again.Marshal(), key.Marshal()) {
			t.Fatalf("%q does not read back: %v", text, err)
		}
	})
}

// deviceFile makes the file of a key in a device (PROTOCOL.u2f and PROTOCOL.key of the
// OpenSSH sources), or of an obsolete kind.
func deviceFile(public []byte) []byte {
	body := ssh.Marshal(struct {
		Cipher, KDF, KDFOptions string
		Keys                    uint32
		Public, Private         []byte
	}{"none", "none", "", 1, public, bytes.Repeat([]byte{1}, 64)})
	return pem.EncodeToMemory(&pem.Block{Type: "OPENSSH PRIVATE KEY",
		Bytes: append([]byte("openssh-key-v1\x00"), body...)})
}

// TestKeysThatOnlySSHOpens recognises keys in devices, and obsolete ones.
func TestKeysThatOnlySSHOpens(t *testing.T) {
	device := ssh.Marshal(struct {
		Name   string
		Public []byte
		App    string
	}{ssh.KeyAlgoSKED25519, bytes.Repeat([]byte{7}, 32), "ssh:"})
	for name, row := range map[string]struct {
		public []byte
		kind   string
		weak   bool
		raw    error
	}{
		"device":  {device, "ed25519-sk", false, ErrDevice},
		"strange": {ssh.Marshal(struct{ Name string }{"ssh-odd"}), "", false, nil},
	} {
		path := filepath.Join(t.TempDir(), "key")
		if err := os.WriteFile(path, deviceFile(row.public), 0o600); err != nil {
			t.Fatal(err)
		}
		pair, err := Load(path)
		if row.kind == "" {
			if !errors.Is(err, ErrNotKey) {
				t.Errorf("%s: %v", name, err)
			}
			continue
		}
		if err != nil || Kind(pair.Public) != row.kind || IsWeak(pair.Public) != row.weak || pair.Locked {
			t.Errorf("%s: %+v, %v", name, pair, err)
			continue
		}
		if _, err := pair.Raw(secret.Text{}); !errors.Is(err, row.raw) {
			t.Errorf("%s: opens with %v", name, err)
		}
	}
}
