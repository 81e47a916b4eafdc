// Package gitlink learns from git what git would do, through its documented commands:
// its effective configuration with origins, remotes, rewriting rules, and the ssh program
// that it starts.
//
// Standards: git-config(1), git(1) for environment variables, gitremote-helpers(7).
package gitlink
