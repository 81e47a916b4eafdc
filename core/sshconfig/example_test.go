package sshconfig_test

import (
	"fmt"

	"anchorage.example/unicrux/core/sshconfig"
)

func ExampleSetInBlock() {
	before := "# my own line stays\nHost *\n  Compression yes\n"
	after, err := sshconfig.SetInBlock([]byte(before), []string{"forge.tidewater.example"}, []sshconfig.Setting{
		{Keyword: "Port", Args: []string{"2222"}},
		{Keyword: "IdentityFile", Args: []string{"~/.ssh/the forge"}},
	})
	fmt.Printf("%s%v\n", after, err)
	// Output:
	// # my own line stays
	// Host *
	//   Compression yes
	//
	// Host forge.tidewater.example
	//     Port 2222
	//     IdentityFile "~/.ssh/the forge"
	// <nil>
}
