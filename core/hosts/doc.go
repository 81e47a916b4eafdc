// Package hosts keeps what is settled here about the described hosts: their descriptions and accounts, our own file of
// ssh's settings and of git's, what a host may be asked through, and since when it is told about which key. It changes
// files through a batch of package workstation. Of the network it only fetches a description that a URL names.
package hosts
