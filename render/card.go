package render

import (
	"anchorage.example/unicrux/core/card"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/core/untrusted"
)

// Card writes what to fill in into another program, field by field. What is to be copied
// stands alone on its line.
func Card(s Style, c *card.Card, purpose string, tilde func(string) string) string {
	text := s.Sentences("What to fill in into another program, to " + purpose + " at " + c.Host + ".")
	for _, side := range c.Sides {
		text += "\n" + margin + s.paint(bold, "By "+map[string]string{"ssh": "SSH",
			"https": "HTTPS"}[side.Transport]) + "\n"
		var rows []row
		for _, field := range side.Fields {
			value := field.Value
			if field.Secret != "" {
				value = secret.Mask + "  (unicrux card " + c.Host + " --copy " + field.Name + ")"
			}
			r := row{label: field.Name, tone: grey, lines: []string{untrusted.Clean(value)}}
			rows = append(rows, r)
			if field.Note != "" {
				rows = append(rows, row{text: field.Note, quiet: true})
			}
			if len(field.Command) > 0 {
				rows = append(rows, row{lines: []string{Command(field.Command)}})
			}
		}
		text += s.block(10, rows)
		if !side.Ready {
			text += s.Sentences("Something is missing for that. To get it:") + CommandLine(s, side.Missing...)
		}
	}
	return text
}

// CardDocument makes the document "unicrux.card/1". Secrets are named, not told.
func CardDocument(c *card.Card, purpose string) any {
	type field struct {
		Name  string  `json:"name"`
		Value *string `json:"value"` // null for a secret
		Token *string `json:"token"` // the name of the token in the chest that is the value
		Note  *string `json:"note"`
	}
	type side struct {
		Transport string   `json:"transport"`
		Ready     bool     `json:"ready"`
		Missing   []string `json:"missing"` // the command that makes it ready
		Fields    []field  `json:"fields"`
	}
	var sides []side
	for _, from := range c.Sides {
		to := side{from.Transport, from.Ready, append([]string{}, from.Missing...), nil}
		for _, f := range from.Fields {
			to.Fields = append(to.Fields, field{f.Name, optional(f.Value), optional(f.Secret), optional(f.Note)})
		}
		sides = append(sides, to)
	}
	return struct {
		Schema  string `json:"schema"`
		Host    string `json:"host"`
		Purpose string `json:"purpose"`
		Sides   []side `json:"sides"`
	}{"unicrux.card/1", c.Host, purpose, sides}
}
