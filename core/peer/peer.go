// Package peer makes sure who is at the other end of a local socket, before the first byte is said
// there: a socket lies in a folder, and whoever can put one in its place would be told secrets.
//
// It needs little, so that git can be answered before anything else of the program is ready.
package peer

import "anchorage.example/unicrux/core/fault"

// ErrStranger is returned for a socket, or a folder around it, that is not this very user's.
var ErrStranger = fault.New("socket-of-another-user", fault.Failed, "it belongs to another user, or others can write there")
