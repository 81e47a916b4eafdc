// Package memory keeps what this process has in memory from others: from debuggers of the same
// user, from crash files, and from the swap where the system allows that.
//
// It needs next to nothing, because what answers git calls it first.
package memory
