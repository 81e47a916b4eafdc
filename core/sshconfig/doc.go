// Package sshconfig reads the ssh client's configuration as the client itself does,
// resolves what holds for one host, and edits files without disturbing the rest.
//
// [Resolve] is what most callers want. Standards:
//
//	[CONF] ssh_config(5)
//	[SSH]  ssh(1): options on the command line
//
// Where the manual is silent the client's own behaviour decides; the tests compare with
// what the installed client prints as its resolved settings.
package sshconfig
