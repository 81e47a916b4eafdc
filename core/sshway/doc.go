// Package sshway tells what git's ssh would do for an address on this workstation: which
// settings hold, which keys it would offer in which order, which host keys it would
// trust. It turns that into a plan for package wire, so that what we try is what git
// would do.
//
// [Prepare] is what callers want. Where ssh(1) and ssh_config(5) are silent, the order of
// things is that of the client's sources.
package sshway
