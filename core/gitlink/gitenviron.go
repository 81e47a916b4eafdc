package gitlink

import (
	"fmt"
	"os/user"
	"strconv"
	"strings"

	"anchorage.example/unicrux/core/workstation"
)

// commandLine is where git says that settings of its environment stand (--show-origin in git-config(1)).
const commandLine = "command line:"

// A gitEnviron is what git's environment says of its configuration ("ENVIRONMENT" in git-config(1)).
type gitEnviron struct{ *workstation.Station }

// truth reads a variable of the environment as git reads a boolean; nothing is false.
func (e gitEnviron) truth(name string) (bool, error) {
	text, set := e.Lookup(name)
	if !set {
		return false, nil
	}
	value, ok := Truth(text)
	if !ok {
		return false, fmt.Errorf("%w: %s is neither true nor false", ErrUnreadable, name)
	}
	return value, nil
}

// Truth reads a boolean ("boolean" in git-config(1), "Values"); ok is false for a text that is none.
func Truth(text string) (value, ok bool) {
	switch strings.ToLower(text) {
	case "true", "yes", "on":
		return true, true
	case "false", "no", "off", "":
		return false, true
	}
	n, ok := integer(text)
	return n != 0, ok
}

// integer reads a number, with a unit ("integer" in git-config(1), "Values").
func integer(text string) (int64, bool) {
	text = strings.TrimLeft(text, " \t\n\v\f\r")
	factor := int64(1)
	if n := len(text) - 1; n > 0 {
		if i := strings.IndexByte("kmg", text[n]|0x20); i >= 0 {
			factor, text = 1<<(10*(i+1)), text[:n]
		}
	}
	if strings.ContainsRune(text, '_') { // Go allows it, C does not
		return 0, false
	}
	n, err := strconv.ParseInt(text, 0, 64)
	n *= factor
	return n, err == nil && n == int64(int32(n)) //nolint:gosec // whether it fits is the question
}

// globalFiles are the person's own files, in git's order.
func (e gitEnviron) globalFiles() []string {
	if path, set := e.Lookup("GIT_CONFIG_GLOBAL"); set {
		return []string{path}
	}
	var files []string
	home, known := e.Lookup("HOME")
	if folder := e.Getenv("XDG_CONFIG_HOME"); folder != "" {
		files = append(files, folder+"/git/config")
	} else if known {
		files = append(files, home+"/.config/git/config")
	}
	if known {
		files = append(files, home+"/.gitconfig")
	}
	return files
}

// expand replaces what stands for a folder at the start of a path ("pathname" in git-config(1)). ok is false where
// it stands for none. real resolves the links of the home, as conditions have it.
func (e gitEnviron) expand(path string, real bool) (text string, ok bool) {
	if rest, found := strings.CutPrefix(path, "%(prefix)/"); found {
		return "/usr/" + rest, true
	}
	if !strings.HasPrefix(path, "~") {
		return path, true
	}
	name, rest := path[1:], ""
	if i := strings.IndexByte(name, '/'); i >= 0 {
		name, rest = name[:i], name[i:]
	}
	if name != "" {
		other, err := user.Lookup(name)
		if err != nil {
			return "", false
		}
		return other.HomeDir + rest, true
	}
	home, known := e.Lookup("HOME")
	if !known {
		return "", false
	}
	if real {
		home = realPath(home)
	}
	return home + rest, true
}

// fromEnvironment takes the settings that are in the environment (GIT_CONFIG_COUNT in git-config(1), and what git
// itself hands on of "-c").
func (r *reading) fromEnvironment() error {
	environ := r.environ()
	if text, set := environ.Lookup("GIT_CONFIG_COUNT"); set && text != "" {
		count, err := strconv.ParseUint(strings.TrimPrefix(strings.TrimSpace(text), "+"), 10, 31)
		if err != nil {
			return fmt.Errorf("%w: GIT_CONFIG_COUNT", ErrUnreadable)
		}
		for i := range count {
			at := strconv.FormatUint(i, 10)
			key, named := environ.Lookup("GIT_CONFIG_KEY_" + at)
			value, valued := environ.Lookup("GIT_CONFIG_VALUE_" + at)
			if !named || !valued {
				return fmt.Errorf("%w: GIT_CONFIG_KEY_%s", ErrUnreadable, at)
			}
			if err := r.setHere(key, value, true); err != nil {
				return err
			}
		}
	}
	return r.parameters(environ.Getenv("GIT_CONFIG_PARAMETERS"))
}

// setHere takes one of the environment's.
func (r *reading) setHere(key, value string, valued bool) error {
	if !isKey(key) {
		return fmt.Errorf("%w: the key %q", ErrUnreadable, key)
	}
	if !valued {
		value = "true"
	}
	return r.set(Entry{Key: normalKey(key), Value: value, Scope: r.scope, Origin: commandLine}, valued)
}

// isKey tells whether a key is one ("git_config_parse_key" in git's sources).
func isKey(key string) bool {
	first, last := strings.IndexByte(key, '.'), strings.LastIndexByte(key, '.')
	if last < 1 || last == len(key)-1 || !isLetter(key[last+1]) || strings.ContainsRune(key, '\n') {
		return false
	}
	for _, part := range []string{key[:first], key[last+1:]} {
		if strings.ContainsFunc(part, func(c rune) bool { return c > 0x7f || !isNamePart(byte(c)) }) {
			return false
		}
	}
	return true
}

// parameters reads what git hands to the programs that it starts: quoted for a shell, a key alone, or a key and a value
// ("parse_config_env_list" in git's sources).
func (r *reading) parameters(text string) error {
	bogus := fmt.Errorf("%w: GIT_CONFIG_PARAMETERS", ErrUnreadable)
	for text != "" {
		key, rest, ok := unquote(text)
		if !ok {
			return bogus
		}
		value, valued := "", false
		switch {
		case rest == "" || isSpace(rest[0]):
			key, value, valued = strings.Cut(key, "=")
			key = strings.Trim(key, " \t\r\n")
		case strings.HasPrefix(rest, "='"):
			value, rest, valued = unquote(rest[1:])
			if !valued || rest != "" && !isSpace(rest[0]) {
				return bogus
			}
		case rest == "=" || rest[0] == '=' && isSpace(rest[1]):
			rest = rest[1:]
		default:
			return bogus
		}
		if err := r.setHere(key, value, valued); err != nil {
			return err
		}
		text = strings.TrimLeft(rest, " \t\r\n")
	}
	return nil
}

// unquote reads one word that git quoted for a shell ("sq_dequote_step" in git's sources).
func unquote(text string) (word, rest string, ok bool) {
	if !strings.HasPrefix(text, "'") {
		return "", "", false
	}
	for text = text[1:]; ; {
		part, after, closed := strings.Cut(text, "'")
		if !closed {
			return "", "", false
		}
		word += part
		if len(after) < 3 || after[0] != '\\' || after[1] != '\'' && after[1] != '!' || after[2] != '\'' {
			return word, after, true
		}
		word, text = word+after[1:2], after[3:]
	}
}
