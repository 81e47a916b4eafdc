// Package hostapi tells a host's interface things, as its description says.
//
// A [Client] has one method for each operation; [Published] gathers a host's own keys.
// Standards:
//
//	[6570] RFC 6570: URI templates, for paths
//	[8288] RFC 8288: web links, for lists of several pages
//	[9110] RFC 9110: HTTP semantics; Retry-After
//	[9457] RFC 9457: problem details, for the host's refusals
package hostapi
