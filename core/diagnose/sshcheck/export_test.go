package sshcheck

// Resembles is for the tests.
var Resembles = resembles
