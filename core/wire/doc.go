// Package wire goes the way to a repository over the network, once and without changing
// anything, and reports what it met: which address answered, with which key, which of our
// keys the host took, what the repository said.
//
// [GoSSH] makes one connection for the whole way. Standards:
//
//	[4252] RFC 4252: the SSH authentication protocol
//	[4253] RFC 4253: the SSH transport protocol
//	[4254] RFC 4254: the SSH connection protocol
//	[PACK] gitprotocol-pack(5), gitprotocol-common(5): pkt-lines and advertisements
package wire
