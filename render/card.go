package render

import (
	"anchorage.example/unicrux/core/card"
	"anchorage.example/unicrux/core/secret"
	"anchorage.example/unicrux/core/untrusted"
	"anchorage.example/unicrux/render/document"
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

// CardDocument makes the document of a card. Secrets are named, not shown.
func CardDocument(c *card.Card, purpose string) any {
	return document.Card{Schema: document.Schema("card"), Host: c.Host, Purpose: purpose,
		Sides: document.Map(c.Sides, func(s card.Side) document.CardSide {
			return document.CardSide{Transport: s.Transport, Ready: s.Ready, Command: document.List(s.Missing),
				Fields: document.Map(s.Fields, func(f card.Field) document.CardField {
					return document.CardField{Name: f.Name, Value: document.Text(f.Value),
						Token: document.Text(f.Secret), Note: document.Text(f.Note)}
				})}
		})}
}
