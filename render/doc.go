// Package render turns what the core found into text for people and into JSON documents.
// It knows no commands and computes nothing that is true or false.
package render
