// Package ready opens a way: it asks package diagnose for the crux, applies its automatic mends one after another, and
// asks again, until the way is open or somebody else is needed.
package ready
