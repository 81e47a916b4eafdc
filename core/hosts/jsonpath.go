package hosts

import (
	"errors"
	"regexp"
	"strconv"
	"strings"
)

// errPath is returned for a path outside the part of JSONPath [9535] that we take.
var errPath = errors.New(`a path such as "$.account" is needed`)

var pathForm = regexp.MustCompile(`^\$(\.[A-Za-z_][A-Za-z0-9_]*)*$`)

// parsePath reads "$" followed by member names and returns the names.
func parsePath(text string) ([]string, error) {
	if !pathForm.MatchString(text) {
		return nil, errPath
	}
	return strings.Split(text, ".")[1:], nil
}

// follow goes from a JSON value along a path; the result is nil where there is nothing.
func follow(value any, path string) any {
	names, err := parsePath(path)
	if err != nil {
		return nil
	}
	for _, name := range names {
		object, ok := value.(map[string]any)
		if !ok {
			return nil
		}
		value = object[name]
	}
	return value
}

// asText writes a JSON scalar as text: ids are numbers at some hosts and text at others.
func asText(value any) string {
	switch v := value.(type) {
	case string:
		return v
	case float64:
		return strconv.FormatFloat(v, 'f', -1, 64)
	case bool:
		return strconv.FormatBool(v)
	}
	return ""
}
