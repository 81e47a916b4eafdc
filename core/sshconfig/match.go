package sshconfig

import (
	"strconv"
	"strings"

	"anchorage.example/unicrux/core/allow"
)

// match tells whether all conditions of a Match line hold ("Match" in [CONF]).
func (r *reader) match(text string, at Origin) bool {
	result := true
	r.unknown = nil
	for text != "" {
		var name string
		name, text = nextWord(text)
		if name == "" || strings.HasPrefix(name, "#") {
			break
		}
		name, negated := strings.CutPrefix(allow.LowerHost(name), "!")
		name, inline, hasInline := strings.Cut(name, "=")
		switch name {
		case "all":
			result = result && !negated
			continue
		case "canonical":
			result = result && r.final != negated
			continue
		case "final":
			r.s.final = true
			result = result && r.final != negated
			continue
		}
		argument := inline
		if !hasInline {
			argument, text = nextWord(text)
		}
		if argument == "" {
			r.s.problem(at, "match", ErrNoArgument)
			return false
		}
		if (name == "exec" || name == "localnetwork") && !result {
			continue // the client does not ask either
		}
		holds, ok := r.condition(name, argument, at)
		if !ok {
			r.s.problem(at, "match", ErrArgument)
			return false
		}
		result = result && holds != negated
	}
	return result
}

// condition evaluates one condition that has an argument; ok is false for an unknown one.
func (r *reader) condition(name, argument string, at Origin) (holds, ok bool) {
	query := r.s.Query
	switch name {
	case "host":
		return matchList(allow.LowerHost(r.hostSoFar()), allow.LowerHost(argument)), true
	case "originalhost":
		return matchList(allow.LowerHost(query.Host), allow.LowerHost(argument)), true
	case "user":
		user, _, found := r.s.First("user")
		if !found {
			user = query.Person.User
		}
		return matchList(user, argument), true
	case "localuser":
		return matchList(query.Person.User, argument), true
	case "tagged":
		tag, _, _ := r.s.First("tag")
		return matchList(tag, argument), true
	case "exec":
		if r.s.Query.Run != nil {
			return r.s.Query.Run(r.s.command(r.s.tokens(r.s.Client()), argument)), true
		}
		fallthrough
	case "localnetwork":
		r.unknown = append(r.unknown, Value{Args: []string{name, argument}, Origin: at})
		return false, true
	}
	return false, false
}

// hostSoFar is the name after the HostName lines read until now.
func (r *reader) hostSoFar() string {
	name, _, found := r.s.First("hostname")
	if !found {
		return r.s.Query.Host
	}
	return expandHostName(name, r.s.Query.Host)
}

func isPort(text string) bool {
	port, err := strconv.ParseUint(text, 10, 16)
	return err == nil && port > 0
}
