package base

// Version is the program's version; a release sets it with -ldflags.
var Version = "0.1.0-dev"
