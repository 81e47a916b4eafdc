package demo

import (
	"embed"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"

	"anchorage.example/unicrux/standin"
)

// descriptions are what anybody would write to tell Unicrux about the hosts of the made-up
// world; only ports and keys differ from run to run.
//
//go:embed *.toml
var descriptions embed.FS

// Serve starts a practice host of the made-up world ("forge", "saltmarsh" or "lantern"), and
// writes its description to [standin.Host.DescriptionFile].
func Serve(name string, o standin.Options) (*standin.Host, error) {
	o.World = name
	host, err := standin.Start(o)
	if err != nil {
		return nil, err
	}
	text, err := describe(name, host)
	if err == nil {
		err = os.WriteFile(host.DescriptionFile(), text, 0o600)
	}
	if err != nil {
		return nil, errors.Join(err, host.Close())
	}
	return host, nil
}

func describe(name string, host *standin.Host) ([]byte, error) {
	text, err := descriptions.ReadFile(name + ".toml")
	if err != nil {
		return nil, fmt.Errorf("the description of %s: %w", name, err)
	}
	fill := strings.NewReplacer("{{Name}}", name, "{{Title}}", host.Title(), "{{Host}}", host.Hostname(), "{{Path}}",
		standin.InterfacePath,
		"{{SSHPort}}", strconv.Itoa(host.SSHPort()), "{{OtherPort}}", strconv.Itoa(host.OtherPort()), "{{WebPort}}",
		strconv.Itoa(host.WebPort()),
		"{{Authority}}", string(host.Authority()), "{{HostKey}}", host.HostKeyLine(), "{{Fingerprint}}",
		host.HostKeyPrint())
	return []byte(fill.Replace(string(text))), nil
}
