// Package describe is the language in which a code host is described: a TOML file that says
// where the host is, how to trust it, and how its API is called. No host is built
// in. docs/describe-a-host.md is its reference.
//
// [Parse] reads a description strictly. Package hostapi does what it says. Standards:
//
//	[6570] RFC 6570: URI templates, for paths
//	[9535] RFC 9535: JSONPath, for where values are in an answer
//	[8414] RFC 8414: OAuth 2.0 authorization server metadata
package describe
