// Package webcheck goes the way over HTTPS: it settles what git would do for an address, goes to the host once, and
// names the cause where that fails.
//
// [Settle] passes the stage of settings, [Travel] those behind it, [Mends] says what removes a crux. A secret is shown
// only to the host, scheme and port that it is for.
package webcheck
