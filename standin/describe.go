package standin

import (
	"bytes"
	"fmt"
	"text/template"
)

// description is what anybody would write to tell Unicrux about this host.
var description = template.Must(template.New("description").Parse(`# How to reach and speak to {{.Title}}, for "unicrux host add".
unicrux = 1
name = "{{.Name}}"
title = "{{.Title}}"

[ssh]
host = "{{.Host}}"
user = "git"
port = {{.SSHPort}}
alternative-port = {{.OtherPort}}
address = "127.0.0.1"
greeting = 'knows you as ([a-z.]+)\. There is no shell'

[interface]
url = "https://{{.Host}}:{{.WebPort}}{{.Path}}"
address = "127.0.0.1"
header = "Authorization: Bearer {token}"
authority = """
{{.Authority}}"""

[keys]
kinds = ["ed25519", "ecdsa", "rsa"]
title = 200

[operations.who]
method = "GET"
path = "me"
fields = { account = "$.account" }

[operations.host-keys]
method = "GET"
path = "host-keys"
open = true
items = "$.host_keys"
fields = { line = "$.line" }

[operations.list-keys]
method = "GET"
path = "me/keys"
items = "$.keys"
fields = { id = "$.id", title = "$.title", line = "$.line", until = "$.until", used = "$.used", access = "$.access" }

[operations.add-key]
method = "POST"
path = "me/keys"
body = { title = "{title}", line = "{line}", until = "{until}", access = "{access}" }
fields = { id = "$.id" }

[operations.remove-key]
method = "DELETE"
path = "me/keys/{id}"

[[refusals]]
text = 'is frozen for everyone'
means = "repository-frozen"

[[refusals]]
text = 'registered for reading only'
means = "read-only-key"

[[refusals]]
text = 'account [a-z.]+ is blocked'
means = "account-blocked"
`))

func (h *Host) describe() []byte {
	var b bytes.Buffer
	err := description.Execute(&b, map[string]any{
		"Name": h.world.name, "Title": h.world.title, "Host": h.world.hostname, "Path": interfacePath,
		"SSHPort": h.SSHPort(), "OtherPort": h.OtherPort(), "WebPort": h.WebPort(), "Authority": string(h.authority.pem),
	})
	if err != nil { // the template and its values are both ours
		panic(fmt.Sprintf("the practice host's own description: %v", err))
	}
	return b.Bytes()
}
