// Package apply settles a machine as its administrator declares (core/declared): files of ours, or marked blocks in
// files of others, whose other lines are never touched. What it did is a recorded change, and the second run changes
// nothing.
//
// [Apply] is what callers want; [Deviations] tells what is not as it was left.
package apply
