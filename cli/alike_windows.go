package cli

import "os"

// endAlike does nothing: here no process is ended by a signal.
func endAlike(*os.ProcessState) {}
