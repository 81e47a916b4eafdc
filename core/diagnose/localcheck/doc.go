// Package localcheck finds out what can be known of a way without leaving the workstation: which program goes it, where
// the question leads, and what stops a push at home.
//
// [Locate] passes the stage of the address. What lies behind it is for packages sshcheck and webcheck.
package localcheck
