package render

import (
	"anchorage.example/unicrux/core/about"
	"anchorage.example/unicrux/render/document"
)

// VersionDocument makes the document of the program's version.
func VersionDocument() any {
	return document.Version{Schema: document.Schema("version"), Version: about.Version,
		Commit: document.Text(about.Commit), Go: about.Go(), Platform: about.Platform()}
}
