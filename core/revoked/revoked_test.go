package revoked

import (
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha1"
	"crypto/sha256"
	"errors"
	"os"
	"path/filepath"
	"testing"

	"golang.org/x/crypto/ssh"

	"anchorage.example/unicrux/agreement"
)

func newKey(t testing.TB) ssh.Signer {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	signer, err := ssh.NewSignerFromKey(private)
	if err != nil {
		t.Fatal(err)
	}
	return signer
}

func certify(t testing.TB, key, authority ssh.Signer, serial uint64, id string) *ssh.Certificate {
	certificate := &ssh.Certificate{Key: key.PublicKey(), CertType: ssh.HostCert, Serial: serial, KeyId: id,
		ValidBefore: ssh.CertTimeInfinity}
	if err := certificate.SignCert(rand.Reader, authority); err != nil {
		t.Fatal(err)
	}
	return certificate
}

// TestBinaryLists reads each kind of section, for a key, its certificate, and others.
func TestBinaryLists(t *testing.T) {
	key, authority, other := newKey(t), newKey(t), newKey(t)
	blob, signedBy := key.PublicKey().Marshal(), authority.PublicKey().Marshal()
	short, long := sha1.Sum(blob), sha256.Sum256(blob)
	of := func(authority []byte, parts ...[]byte) []byte {
		return agreement.Part(sectionCertificates, append([][]byte{agreement.Text(authority), agreement.Text()},
			parts...)...)
	}
	for name, row := range map[string]struct {
		section          []byte
		key, certificate bool
	}{
		"nothing":     {nil, false, false},
		"the key":     {agreement.Part(sectionKeys, agreement.Text(blob)), true, true},
		"its SHA-1":   {agreement.Part(sectionSHA1, agreement.Text(short[:])), true, true},
		"its SHA-256": {agreement.Part(sectionSHA256, agreement.Text(long[:])), true, true},
		"who signed":  {agreement.Part(sectionKeys, agreement.Text(signedBy)), false, true},
		"another key": {agreement.Part(sectionKeys, agreement.Text(other.PublicKey().Marshal())),
			false, false},
		"the serial number": {of(signedBy,
			agreement.Part(certSerials, agreement.Numbers(3, 21))), false, true},
		"another serial number": {of(signedBy, agreement.Part(certSerials, agreement.Numbers(3, 22))),
			false, false},
		"the serial number of another": {of(other.PublicKey().Marshal(),
			agreement.Part(certSerials, agreement.Numbers(21))), false, false},
		"the serial number of any": {of(nil, agreement.Part(certSerials, agreement.Numbers(21))), false, true},
		"a range": {of(signedBy,
			agreement.Part(certRange, agreement.Numbers(21, 30))), false, true},
		"a range behind it": {of(signedBy, agreement.Part(certRange, agreement.Numbers(22, 30))),
			false, false},
		"a bitmap": {of(signedBy, agreement.Part(certBitmap, agreement.Numbers(20),
			agreement.Text([]byte{2}))), false, true},
		"a bitmap of two octets": {of(signedBy, agreement.Part(certBitmap, agreement.Numbers(12),
			agreement.Text([]byte{2, 0}))), false, true},
		"a bitmap with a hole": {of(signedBy, agreement.Part(certBitmap, agreement.Numbers(20),
			agreement.Text([]byte{5}))), false, false},
		"the key ID": {of(signedBy,
			agreement.Part(certIDs, agreement.Text([]byte("quay")))), false, true},
		"another key ID": {of(signedBy, agreement.Part(certIDs, agreement.Text([]byte("mole")))),
			false, false},
		"an extension, then the key": {append(agreement.Part(sectionExtension, agreement.Text([]byte("new")),
			[]byte{0}), agreement.Part(sectionKeys, agreement.Text(blob))...), true, true},
		"the key, behind the signatures": {append(agreement.Part(sectionSignature, []byte("key")),
			agreement.Part(sectionKeys, agreement.Text(blob))...), false, false},
	} {
		list, err := Parse(agreement.RevocationList(row.section))
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		if got := list.Has(key.PublicKey()); got != row.key {
			t.Errorf("%s: the key: %v", name, got)
		}
		if got := list.Has(certify(t, key, authority, 21, "quay")); got != row.certificate {
			t.Errorf("%s: the certificate: %v", name, got)
		}
	}
	list, err := Parse(agreement.RevocationList(of(nil, agreement.Part(certRange, agreement.Numbers(0, 9)))))
	if err != nil || list.Has(certify(t, key, authority, 0, "")) {
		t.Errorf("a certificate without a serial number: %v", err)
	}
}

// TestDamagedLists are refused, whatever is damaged, and never half believed.
func TestDamagedLists(t *testing.T) {
	text := agreement.RevocationList(agreement.Part(sectionKeys, agreement.Text(newKey(t).PublicKey().Marshal())))
	for size := len(magic); size < len(text); size++ {
		// a list of nothing is one
		if _, err := Parse(text[:size]); !errors.Is(err, ErrFormat) && size != len(agreement.RevocationList()) {
			t.Errorf("cut to %d octets: %v", size, err)
		}
	}
	for name, section := range map[string][]byte{
		"a section of an unknown type": agreement.Part(99),
		"a hash of the wrong size":     agreement.Part(sectionSHA256, agreement.Text([]byte("short"))),
		"a range that ends before it begins": agreement.Part(sectionCertificates, agreement.Text(), agreement.Text(),
			agreement.Part(certRange, agreement.Numbers(9, 8))),
		"an extension that must be understood": agreement.Part(sectionExtension,
			agreement.Text([]byte("new")), []byte{1}),
	} {
		if _, err := Parse(agreement.RevocationList(section)); !errors.Is(err, ErrFormat) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func TestLinesAndFiles(t *testing.T) {
	key, other := newKey(t), newKey(t)
	path := filepath.Join(t.TempDir(), "revoked")
	if _, err := Read(path); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("no file: %v", err)
	}
	if err := os.WriteFile(path, []byte("# burned\nnonsense\n"+string(ssh.MarshalAuthorizedKey(key.PublicKey()))),
		0o600); err != nil {
		t.Fatal(err)
	}
	list, err := Read(path)
	if err != nil || !list.Has(key.PublicKey()) || list.Has(other.PublicKey()) ||
		!list.Has(certify(t, other, key, 1, "")) {
		t.Errorf("%v", err)
	}
}

// FuzzParse: no text makes it fail otherwise than by its error, and what is read can be asked.
func FuzzParse(f *testing.F) {
	key := newKey(f)
	f.Add(agreement.RevocationList(agreement.Part(sectionKeys, agreement.Text(key.PublicKey().Marshal()))))
	f.Add(agreement.RevocationList(agreement.Part(sectionCertificates, agreement.Text(), agreement.Text(),
		agreement.Part(certBitmap, agreement.Numbers(20), agreement.Text([]byte{2, 0})))))
	certificate := certify(f, key, newKey(f), 21, "quay")
	f.Fuzz(func(t *testing.T, text []byte) {
		list, err := Parse(text)
		if err != nil {
			if !errors.Is(err, ErrFormat) {
				t.Fatal(err)
			}
			return
		}
		list.Has(certificate)
	})
}
