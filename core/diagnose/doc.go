// Package diagnose goes the way from a person to a repository stage by stage, changes nothing on it, and names the one
// crux that stops it: the first cause, with evidence and with what mends it.
//
// [Check] is what callers want. The stages are functions of packages localcheck, sshcheck and webcheck, each from what
// is known to what it found; here is only their order, and the rule that picks the crux. Causes are those of package
// causes, values those of package finding.
package diagnose
