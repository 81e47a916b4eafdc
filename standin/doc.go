// Package standin is the practice host: a small code host on loopback, with git over SSH,
// an interface over HTTPS and the accounts and repositories of a made-up cooperative. It
// signs in by registered keys only, and keeps to read and write rules.
//
// [Start] starts one; it belongs to whoever started it and ends with [Host.Close]. It is
// for trying and testing: everything in it is thrown away.
package standin
