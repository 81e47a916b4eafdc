// Unicrux gets a workstation and a code host to trust each other, and says what is wrong
// when they do not.
package main

import (
	"os"

	"unicrux/cli"
)

func main() {
	os.Exit(cli.Run(cli.System()))
}
