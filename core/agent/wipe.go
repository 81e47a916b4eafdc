package agent

import (
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/rsa"
	"math/big"
)

// wipe overwrites a private key. What libraries copied of it meanwhile it does not reach: that ends
// with the process, which ends when it holds nothing.
func wipe(private any) {
	switch key := private.(type) {
	case *ed25519.PrivateKey:
		clear(*key)
	case ed25519.PrivateKey:
		clear(key)
	case *ecdsa.PrivateKey:
		//lint:ignore SA1019 it is not used as a key any more, and there is no other way to reach it
		wipeNumber(key.D)
	case *rsa.PrivateKey:
		wipeNumber(key.D)
		for _, prime := range key.Primes {
			wipeNumber(prime)
		}
		wipeNumber(key.Precomputed.Dp)
		wipeNumber(key.Precomputed.Dq)
		wipeNumber(key.Precomputed.Qinv)
	}
}

func wipeNumber(n *big.Int) {
	if n != nil {
		clear(n.Bits())
	}
}
