package engine

import "io"

// ServiceQuestion is a question to a listener.
type ServiceQuestion struct {
	Host              string
	Port              int
	Service, Instance string // one of the two
	Secure            bool   // the connection is encrypted
}

// ServiceState is a listener's answer about a service.
type ServiceState int

// The answers of a listener.
const (
	ServiceUnknown   ServiceState = iota // it does not know the service
	ServiceKnown                         // it hands the connection on
	ServiceBlocked                       // it knows the service, which lets nobody in
	ServiceElsewhere                     // it names another address
)

// ServiceAnswer is a listener's answer.
type ServiceAnswer struct {
	State ServiceState
	Said  string // the listener's own words or number
	Host  string // of ServiceElsewhere
	Port  int
}

// Listener is a process in front of the servers that is asked for one of them by name.
type Listener struct {
	// Ask asks for a service on a connection that was just made. An error is an answer in no known form.
	Ask func(conn io.ReadWriter, q ServiceQuestion) (ServiceAnswer, error)
	// UnknownDo is a step to do where the service is not known.
	UnknownDo string
	// TLSSetting is how its TLS version is raised, on the server. Where TLS is wanted, a listener speaks it
	// from the first byte.
	TLSSetting string
}
