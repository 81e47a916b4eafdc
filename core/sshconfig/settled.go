package sshconfig

import (
	"path/filepath"
	"slices"
	"strings"
)

// FromClient turns what the client itself says that holds for a host (-G in [SSH]) into options that settle the
// same, whatever stands in files. program names in words whose they are. told is false for the output of another
// program.
func FromClient(output, program string) (line CommandLine, told bool) {
	line.Config = "none"
	var named []string
	for text := range strings.Lines(output) {
		keyword, value, _ := strings.Cut(strings.TrimRight(text, "\r\n"), " ")
		switch {
		case !known[keyword] || value == "":
			continue
		case keyword == "hostname":
			told = true
			value = strings.ReplaceAll(value, "%", "%%")
		case keyword == "identityfile":
			named = append(named, value)
			continue
		}
		args := strings.Fields(value)
		if !several[keyword] {
			args = []string{value}
		}
		line.Options = append(line.Options, Option{Keyword: keyword, Args: args, Origin: program})
	}
	if !areDefaults(named) {
		for _, path := range named {
			line.Options = append(line.Options, Option{Keyword: "identityfile", Args: []string{path}, Origin: program})
		}
	}
	return line, told
}

// areDefaults tells whether key files are those that the client tries where no settings name any.
func areDefaults(paths []string) bool {
	return !slices.ContainsFunc(paths, func(path string) bool {
		return filepath.ToSlash(filepath.Dir(path)) != "~/.ssh" ||
			!slices.Contains(defaultIdentities, filepath.Base(path))
	})
}
