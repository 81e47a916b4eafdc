package causes_test

import (
	"fmt"

	"anchorage.example/unicrux/core/causes"
)

func ExampleExplain() {
	reading := causes.Explain(`git@forge.tidewater.example: Permission denied (publickey).
fatal: Could not read from remote repository.`)
	for _, cause := range reading.Causes {
		fmt.Println(cause.Code)
	}
	fmt.Println(reading.Host, reading.Conclusive)
	// Output:
	// key-not-registered
	// key-none
	// key-locked
	// key-not-offered
	// key-kind-refused
	// forge.tidewater.example false
}
