package engine

import "strings"

// Image is what an engine's official container images document: the variables that declare a server for the
// first start on an empty data folder, where the data are, and how one is made.
type Image struct {
	Name     string   // the official name; the engine of an image of that name
	Marks    []string // variables that the image itself sets
	Settings []string // prefixes of variables that only a server is given
	Shared   []string // prefixes of those that clients are given too
	Clients  []string // variables that say that a program is a client

	Users     []Credential // the account, by the names of variables, newer names first
	Databases []string
	Service   []string // variables with the service's name; a container of such an engine declares no database
	Port      string   // the variable by which the server itself takes its port, "" for none
	Root      string   // the account that is there without such a variable
	RootPass  []string
	// variables that say that no password is wanted, by value; "" for any, and the root account alone
	Trust map[string]string
	Made  []string // variables that say that a password is made

	// Instead names the images with another engine's name whose servers are this engine's: a part of the image's
	// name, and a prefix of variables.
	Instead ImageSigns

	Checks []string // programs by which a health check asks such a server

	Folders []string // where the data are
	Moves   string   // the variable that moves them, "" for none
	Log     Log

	Recipe *Recipe // how a container is made; nil where none can be
}

// Credential is a pair of variables.
type Credential struct{ User, Password string }

// ImageSigns are signs of such an image.
type ImageSigns struct{ Image, Variables string }

// Has reports whether an image's name is such a one.
func (i ImageSigns) Has(image string) bool {
	return i.Image != "" && strings.Contains(strings.ToLower(image), i.Image)
}

// Log are the lines by which a server's log says that it starts, is ready, or fails.
type Log struct {
	Begins []string
	Ready  []string
	Fails  []string // what keeps it from starting, or ends it
	Before []string // of the server of the image's own preparations, which ends again
	// Announced: a line of Before comes above that server's lines, not among or behind them.
	Announced bool
	// PortBehind: the port stands in the line of being ready, or the one behind it.
	PortBehind bool
	Skip       string // in lines that only look like one of Ready
}

// Recipe says how an image makes an account and a database. A variable with _FILE behind its name takes
// the name of a file.
type Recipe struct {
	RootPass string // "" where the first account may have any name
	User     string
	Password string
	Database string
	Check    func(user, database string, port int) []string // the command of the health check
	Command  []string                                       // in place of the image's own, where that makes no account
	Tag      func(major, minor string) string               // of the image for a server's version
}
