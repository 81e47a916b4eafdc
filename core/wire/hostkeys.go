package wire

import (
	"bytes"
	"context"
	"errors"
	"slices"

	"golang.org/x/crypto/ssh"
)

// errOnlyLooked ends a connection on which the host's key was all that was wanted.
var errOnlyLooked = errors.New("only looked at")

// proofs are the algorithms by which a host proves each type of key.
var proofs = [][]string{{ssh.KeyAlgoED25519}, {ssh.KeyAlgoECDSA256}, {ssh.KeyAlgoECDSA384}, {ssh.KeyAlgoECDSA521},
	{ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256}}

// HostKeys asks a host for its keys of each type but that of a key which is known already, and stops as
// soon as enough is true. It connects once for each, and never signs in.
func HostKeys(ctx context.Context, plan Plan, known ssh.PublicKey, enough func(ssh.PublicKey) bool) []ssh.PublicKey {
	plan.Offers, plan.Service, plan.Trust, plan.TrustLocal = nil, "",
		func(ssh.PublicKey) error { return errOnlyLooked }, false
	var keys []ssh.PublicKey
	for _, algorithms := range proofs {
		if known != nil && (known.Type() == algorithms[0] || known.Type() == ssh.KeyAlgoRSA && len(algorithms) > 1) {
			continue
		}
		plan.HostKeys = algorithms
		trip, err := GoSSH(ctx, plan)
		if trip.HostKey != nil &&
			!slices.ContainsFunc(keys,
				func(k ssh.PublicKey) bool { return bytes.Equal(k.Marshal(), trip.HostKey.Marshal()) }) {
			keys = append(keys, trip.HostKey)
			if enough(trip.HostKey) {
				return keys
			}
		}
		if ctx.Err() != nil || !errors.Is(err, ErrTrust) && !errors.Is(err, ErrAlgorithms) { // it cannot be asked now
			return keys
		}
	}
	return keys
}
