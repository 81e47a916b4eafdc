// Package find looks through folders for key files that lie where nobody thinks of them:
// exposed, inside repositories, torn from their other half, or there twice.
//
// [Find] is what callers want.
package find
