package render

import "anchorage.example/unicrux/core/about"

// VersionDocument makes the document of the program's version.
func VersionDocument() any {
	return struct {
		Schema   string  `json:"schema"`
		Version  string  `json:"version"`
		Commit   *string `json:"commit"` // null where it is not known
		Go       string  `json:"go"`
		Platform string  `json:"platform"`
	}{"unicrux.version/1", about.Version, optional(about.Commit), about.Go(), about.Platform()}
}
