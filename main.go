// Unicrux gets a workstation and a code host to trust each other, and says what is wrong
// when they do not.
package main

import (
	"os"

	"anchorage.example/unicrux/atonce"
	"anchorage.example/unicrux/cli"
)

func main() {
	system := cli.System()
	system.Read = atonce.Read()
	os.Exit(cli.Run(system))
}
