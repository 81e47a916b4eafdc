package agreement

import "encoding/binary"

// Text is a string of SSH (RFC 4251, section 5).
func Text(parts ...[]byte) []byte {
	var all []byte
	for _, part := range parts {
		all = append(all, part...)
	}
	return append(binary.BigEndian.AppendUint32(nil, uint32(len(all))), all...)
}

// Part is a section of a key revocation list, or a part of one (PROTOCOL.krl of OpenSSH): its type, and what is in it.
func Part(kind byte, content ...[]byte) []byte { return append([]byte{kind}, Text(content...)...) }

// Numbers are 64-bit numbers, one behind the other.
func Numbers(list ...uint64) []byte {
	var all []byte
	for _, n := range list {
		all = binary.BigEndian.AppendUint64(all, n)
	}
	return all
}

// RevocationList is a key revocation list of some sections.
func RevocationList(sections ...[]byte) []byte {
	all := append([]byte("SSHKRL\n\x00"), 0, 0, 0, 1)
	all = append(all, Numbers(1, 1, 0)...)
	all = append(append(all, Text()...), Text([]byte("made for a test"))...)
	for _, section := range sections {
		all = append(all, section...)
	}
	return all
}
