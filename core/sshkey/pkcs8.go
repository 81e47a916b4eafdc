package sshkey

import (
	"bytes"
	"crypto"
	"crypto/aes"
	"crypto/cipher"
	"crypto/des"
	"crypto/pbkdf2"
	"crypto/rand"
	"crypto/sha1" // the older files are locked by it
	"crypto/sha256"
	"crypto/sha512"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"encoding/pem"
	"errors"
	"hash"

	"golang.org/x/crypto/scrypt"

	"anchorage.example/unicrux/core/secret"
)

// encryptedPKCS8 is the label of a locked private file in PKCS#8 (RFC 7468, section 11).
const encryptedPKCS8 = "ENCRYPTED PRIVATE KEY"

// ErrLockKind is returned for a private file that is locked in a way that we do not open, as OpenSSL does.
var ErrLockKind = errors.New("it is locked by an old method, which Unicrux does not open: write it anew with the program that made it")

// The identifiers of what a lock consists of (RFC 8018, appendix C, and RFC 7914, section 7).
var (
	oidPBES2  = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 5, 13}
	oidPBKDF2 = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 5, 12}
	oidScrypt = asn1.ObjectIdentifier{1, 3, 6, 1, 4, 1, 11591, 4, 11}
	oidSHA256 = asn1.ObjectIdentifier{1, 2, 840, 113549, 2, 9}
	oidAES256 = asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 1, 42}

	lockHashes = map[string]func() hash.Hash{
		"1.2.840.113549.2.7": sha1.New, "1.2.840.113549.2.8": sha256.New224, oidSHA256.String(): sha256.New,
		"1.2.840.113549.2.10": sha512.New384, "1.2.840.113549.2.11": sha512.New,
	}
	lockCiphers = map[string]lockCipher{
		"2.16.840.1.101.3.4.1.2": {16, aes.NewCipher}, "2.16.840.1.101.3.4.1.22": {24, aes.NewCipher},
		oidAES256.String():   {32, aes.NewCipher},
		"1.2.840.113549.3.7": {24, des.NewTripleDESCipher},
	}
)

type lockCipher struct {
	keyBytes int
	block    func(key []byte) (cipher.Block, error)
}

// The structures of RFC 5958 (section 3) and RFC 8018 (appendix A).
type (
	encryptedInfo struct {
		Algorithm pkix.AlgorithmIdentifier
		Data      []byte
	}
	pbes2 struct{ KDF, Scheme pkix.AlgorithmIdentifier }

	pbkdf2Parameters struct {
		Salt       []byte
		Iterations int
		KeyBytes   int                      `asn1:"optional"`
		Hash       pkix.AlgorithmIdentifier `asn1:"optional"`
	}
	scryptParameters struct {
		Salt     []byte
		N, R, P  int
		KeyBytes int `asn1:"optional"`
	}
)

// Limits for the work that a file may ask for.
const (
	mostIterations = 50_000_000
	mostScrypt     = 1 << 30 // bytes of memory, which are 128 N r
)

// lockIterations is what OWASP's guidance wants for PBKDF2 with SHA-256.
const lockIterations = 600_000

// openPKCS8 unlocks a private key in PKCS#8. The error is [ErrLockKind] for a lock of another kind than PBES2,
// [ErrPassphrase] where the passphrase does not open it, else [ErrNotKey].
func openPKCS8(der []byte, passphrase secret.Text) (any, error) {
	var info encryptedInfo
	if rest, err := asn1.Unmarshal(der, &info); err != nil || len(rest) > 0 {
		return nil, ErrNotKey
	}
	if !info.Algorithm.Algorithm.Equal(oidPBES2) {
		return nil, ErrLockKind
	}
	var p pbes2
	if _, err := asn1.Unmarshal(info.Algorithm.Parameters.FullBytes, &p); err != nil {
		return nil, ErrNotKey
	}
	scheme, known := lockCiphers[p.Scheme.Algorithm.String()]
	if !known {
		return nil, ErrLockKind
	}
	key, err := p.key(passphrase, scheme.keyBytes)
	if err != nil {
		return nil, err
	}
	block, err := scheme.block(key)
	if err != nil {
		return nil, ErrNotKey
	}
	var iv []byte
	if _, err := asn1.Unmarshal(p.Scheme.Parameters.FullBytes, &iv); err != nil || len(iv) != block.BlockSize() ||
		len(info.Data) == 0 || len(info.Data)%block.BlockSize() != 0 {
		return nil, ErrNotKey
	}
	plain := make([]byte, len(info.Data))
	cipher.NewCBCDecrypter(block, iv).CryptBlocks(plain, info.Data)
	last := int(plain[len(plain)-1])
	if last == 0 || last > block.BlockSize() || !bytes.Equal(plain[len(plain)-last:],
		bytes.Repeat([]byte{byte(last)}, last)) {
		return nil, ErrPassphrase
	}
	private, err := x509.ParsePKCS8PrivateKey(plain[:len(plain)-last])
	if err != nil {
		return nil, ErrPassphrase
	}
	return private, nil
}

// key makes the key of a lock from its passphrase.
func (p pbes2) key(passphrase secret.Text, keyBytes int) ([]byte, error) {
	switch {
	case p.KDF.Algorithm.Equal(oidPBKDF2):
		var k pbkdf2Parameters
		if _, err := asn1.Unmarshal(p.KDF.Parameters.FullBytes, &k); err != nil || k.Iterations < 1 ||
			k.Iterations > mostIterations {
			return nil, ErrNotKey
		}
		made, known := sha1.New, true // the standard's own, where none is named
		if len(k.Hash.Algorithm) > 0 {
			made, known = lockHashes[k.Hash.Algorithm.String()]
		}
		if !known {
			return nil, ErrLockKind
		}
		return pbkdf2.Key(made, string(passphrase.Reveal()), k.Salt, k.Iterations, keyBytes)
	case p.KDF.Algorithm.Equal(oidScrypt):
		var k scryptParameters
		if _, err := asn1.Unmarshal(p.KDF.Parameters.FullBytes, &k); err != nil || k.N < 2 || k.R < 1 || k.P < 1 ||
			k.N > mostScrypt/128/k.R || k.P > 64 {
			return nil, ErrNotKey
		}
		key, err := scrypt.Key(passphrase.Reveal(), k.Salt, k.N, k.R, k.P, keyBytes)
		if err != nil {
			return nil, ErrNotKey
		}
		return key, nil
	}
	return nil, ErrLockKind
}

// toPKCS8 writes a private key in PKCS#8, locked by AES-256 and PBKDF2 with SHA-256 unless the passphrase is empty:
// ssh and OpenSSL read that.
func toPKCS8(private crypto.PrivateKey, passphrase secret.Text) (*pem.Block, error) {
	der, err := x509.MarshalPKCS8PrivateKey(private)
	if err != nil || passphrase.Empty() {
		return &pem.Block{Type: "PRIVATE KEY", Bytes: der}, err
	}
	salt, iv := make([]byte, 16), make([]byte, aes.BlockSize)
	_, _ = rand.Read(salt) // it never fails (crypto/rand)
	_, _ = rand.Read(iv)
	null := asn1.RawValue{Tag: asn1.TagNull}
	kdf, err := asn1.Marshal(pbkdf2Parameters{Salt: salt, Iterations: lockIterations,
		Hash: pkix.AlgorithmIdentifier{Algorithm: oidSHA256, Parameters: null}})
	if err != nil {
		return nil, err
	}
	vector, err := asn1.Marshal(iv)
	if err != nil {
		return nil, err
	}
	p := pbes2{KDF: pkix.AlgorithmIdentifier{Algorithm: oidPBKDF2, Parameters: asn1.RawValue{FullBytes: kdf}},
		Scheme: pkix.AlgorithmIdentifier{Algorithm: oidAES256, Parameters: asn1.RawValue{FullBytes: vector}}}
	key, err := p.key(passphrase, 32)
	if err != nil {
		return nil, err
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	padding := aes.BlockSize - len(der)%aes.BlockSize
	der = append(der, bytes.Repeat([]byte{byte(padding)}, padding)...)
	cipher.NewCBCEncrypter(block, iv).CryptBlocks(der, der)
	parameters, err := asn1.Marshal(p)
	if err != nil {
		return nil, err
	}
	text, err := asn1.Marshal(encryptedInfo{Algorithm: pkix.AlgorithmIdentifier{Algorithm: oidPBES2,
		Parameters: asn1.RawValue{FullBytes: parameters}}, Data: der})
	return &pem.Block{Type: encryptedPKCS8, Bytes: text}, err
}
