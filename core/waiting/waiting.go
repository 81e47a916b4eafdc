// Package waiting lets what waits for a host say so, without knowing who shows it.
package waiting

import "context"

// A Place is where a command waits: at a host, and there at a stage, until it is over.
type Place interface {
	At(stage string)
	Over()
}

// A Starter is called when waiting for a host begins.
type Starter func(host string) Place

type key struct{}

type name struct{}

// As is a context in which a host is shown by the name that people call it.
func As(ctx context.Context, host string) context.Context {
	if host == "" {
		return ctx
	}
	return context.WithValue(ctx, name{}, host)
}

// With is a context in which whatever waits for a host calls start.
func With(ctx context.Context, start Starter) context.Context {
	return context.WithValue(ctx, key{}, start)
}

// On says that waiting for a host begins. The place is never nil; its Over must be called.
func On(ctx context.Context, host string) Place {
	if start, ok := ctx.Value(key{}).(Starter); ok {
		if called, ok := ctx.Value(name{}).(string); ok {
			host = called
		}
		return start(host)
	}
	return nobody{}
}

// nobody is the place where nobody shows anything.
type nobody struct{}

func (nobody) At(string) {}
func (nobody) Over()     {}
