package revoked

import (
	"crypto/sha1"
	"crypto/sha256"
	"errors"
	"fmt"

	"golang.org/x/crypto/cryptobyte"
)

// ErrFormat is returned, wrapped, for a binary list that is damaged or has a part that must be understood and is not.
var ErrFormat = errors.New("not a key revocation list that can be read")

var magic = []byte("SSHKRL\n\x00")

// The parts of a binary list (PROTOCOL.krl of OpenSSH, section 2 and below).
const (
	sectionCertificates = 1
	sectionKeys         = 2
	sectionSHA1         = 3
	sectionSignature    = 4
	sectionSHA256       = 5
	sectionExtension    = 255

	certSerials   = 0x20
	certRange     = 0x21
	certBitmap    = 0x22
	certIDs       = 0x23
	certExtension = 0x39

	formatVersion = 1
)

func parseBinary(text []byte) (*List, error) {
	input := cryptobyte.String(text[len(magic):])
	var version uint32
	var number, generated, flags uint64
	var reserved, comment cryptobyte.String
	if !input.ReadUint32(&version) || !input.ReadUint64(&number) || !input.ReadUint64(&generated) ||
		!input.ReadUint64(&flags) || !readText(&input, &reserved) || !readText(&input, &comment) {
		return nil, fmt.Errorf("%w: its head is cut", ErrFormat)
	}
	if version != formatVersion {
		return nil, fmt.Errorf("%w: format version %d", ErrFormat, version)
	}
	list := &List{keys: map[string]bool{}}
	for !input.Empty() {
		kind, data, ok := readPart(&input)
		if !ok {
			return nil, fmt.Errorf("%w: a section is cut", ErrFormat)
		}
		if kind == sectionSignature { // what follows are signatures, which the client does not need either
			return list, nil
		}
		if err := list.section(kind, data); err != nil {
			return nil, err
		}
	}
	return list, nil
}

func (l *List) section(kind byte, data cryptobyte.String) error {
	switch kind {
	case sectionCertificates:
		return l.certificates(data)
	case sectionKeys:
		return l.texts(data, 0)
	case sectionSHA1:
		return l.texts(data, sha1.Size)
	case sectionSHA256:
		return l.texts(data, sha256.Size)
	case sectionExtension:
		return extension(data)
	}
	return fmt.Errorf("%w: a section of the unknown type %d", ErrFormat, kind)
}

// texts reads keys or hashes, each of a size unless that is 0.
func (l *List) texts(data cryptobyte.String, size int) error {
	for !data.Empty() {
		var text cryptobyte.String
		if !readText(&data, &text) || len(text) == 0 || size != 0 && len(text) != size {
			return fmt.Errorf("%w: a key or a hash is cut", ErrFormat)
		}
		l.keys[string(text)] = true
	}
	return nil
}

func (l *List) certificates(data cryptobyte.String) error {
	var authority, reserved cryptobyte.String
	if !readText(&data, &authority) || !readText(&data, &reserved) {
		return fmt.Errorf("%w: a section of certificates is cut", ErrFormat)
	}
	c := certificates{authority: authority, ids: map[string]bool{}}
	for !data.Empty() {
		kind, part, ok := readPart(&data)
		if !ok {
			return fmt.Errorf("%w: a section of certificates is cut", ErrFormat)
		}
		if err := c.part(kind, part); err != nil {
			return err
		}
	}
	l.certs = append(l.certs, c)
	return nil
}

func (c *certificates) part(kind byte, data cryptobyte.String) error {
	ok := true
	switch kind {
	case certSerials:
		for ok && !data.Empty() {
			var serial uint64
			ok = data.ReadUint64(&serial)
			c.serials = append(c.serials, span{serial, serial})
		}
	case certRange:
		var s span
		ok = data.ReadUint64(&s.first) && data.ReadUint64(&s.last) && s.first <= s.last && data.Empty()
		c.serials = append(c.serials, s)
	case certBitmap:
		ok = c.bitmap(data)
	case certIDs:
		for ok && !data.Empty() {
			var id cryptobyte.String
			ok = readText(&data, &id)
			c.ids[string(id)] = true
		}
	case certExtension:
		return extension(data)
	default:
		return fmt.Errorf("%w: certificates by the unknown type %d", ErrFormat, kind)
	}
	if !ok {
		return fmt.Errorf("%w: a list of certificates is cut", ErrFormat)
	}
	return nil
}

// bitmap reads serial numbers as bits of a whole number (mpint in RFC 4251, section 5), the lowest bit for the first.
// It stays as it is: a list may have many millions of them.
func (c *certificates) bitmap(data cryptobyte.String) bool {
	var first uint64
	var number cryptobyte.String
	if !data.ReadUint64(&first) || !readText(&data, &number) || !data.Empty() || len(number) > 0 &&
		number[0]&0x80 != 0 {
		return false
	}
	c.bitmaps = append(c.bitmaps, bitmap{first, number})
	return true
}

// extension passes over what may be passed over.
func extension(data cryptobyte.String) error {
	var name cryptobyte.String
	var critical uint8
	if !readText(&data, &name) || !data.ReadUint8(&critical) || critical != 0 {
		return fmt.Errorf("%w: an extension that must be understood", ErrFormat)
	}
	return nil
}

// readPart reads a type and what it is of.
func readPart(input *cryptobyte.String) (kind byte, data cryptobyte.String, ok bool) {
	ok = input.ReadUint8(&kind) && readText(input, &data)
	return kind, data, ok
}

// readText reads a string of SSH (RFC 4251, section 5): its length in four octets, then itself.
func readText(input, text *cryptobyte.String) bool {
	var size uint32
	return input.ReadUint32(&size) && uint64(size) <= uint64(len(*input)) && input.ReadBytes((*[]byte)(text), int(size))
}
