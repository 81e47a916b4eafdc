package sshkey

import (
	"crypto/sha256"

	"golang.org/x/crypto/ssh"
)

// EyeColumns is how many columns a key's pattern for the eye has, and EyeLevels how high
// each can stand.
const (
	EyeColumns = 16
	EyeLevels  = 8
)

// Eye makes the pattern by which a key is recognised at a glance: a tide line of 16 columns.
// Each column folds two bytes of the SHA-256 fingerprint into a height from 0 to 7, so that
// changing any single bit of the fingerprint changes a column.
func Eye(key ssh.PublicKey) [EyeColumns]int {
	digest := sha256.Sum256(key.Marshal())
	return fold(digest)
}

func fold(digest [sha256.Size]byte) (line [EyeColumns]int) {
	for i := range line {
		x := digest[i] ^ digest[i+EyeColumns]
		line[i] = int((x ^ x>>3 ^ x>>6) & (EyeLevels - 1))
	}
	return line
}
