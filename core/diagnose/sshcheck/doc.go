// Package sshcheck goes the way over SSH: it settles what git's ssh would do, goes to the host once, and names the
// cause where that fails.
//
// [Settle] passes the stage of settings, [Travel] those behind it, [Mends] says what removes a crux. Each is a function
// from what is known to what was found; what they try besides, to tell causes apart, changes nothing either.
package sshcheck
