package address_test

import (
	"errors"
	"fmt"

	"anchorage.example/unicrux/core/address"
)

func ExampleParse() {
	where, err := address.Parse("git@forge.tidewater.example:buoys/drift-model.git")
	fmt.Println(where.Host, where.Repository(), where, err)

	_, err = address.Parse("git@forge.tidewater.example/buoys/drift-model.git")
	fmt.Println(errors.Is(err, address.ErrNoColon), err)
	// Output:
	// forge.tidewater.example buoys/drift-model ssh://git@forge.tidewater.example/buoys/drift-model.git <nil>
	// true not a clone URL: a ":" belongs between the host and the path (at character 28)
}

func ExampleRewrite() {
	rules := []address.Rule{
		{Base: "https://", Prefix: "ssh://git@"},
		{Base: "git@mirror.tidewater.example:", Prefix: "ssh://git@forge.tidewater.example/"},
	}
	url, rule := address.Rewrite("ssh://git@forge.tidewater.example/buoys/drift-model.git", rules, false, false)
	fmt.Println(url, "by", rule.Prefix) // the longest that fits
	// Output: git@mirror.tidewater.example:buoys/drift-model.git by ssh://git@forge.tidewater.example/
}
