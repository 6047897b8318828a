package oracle

import (
	"io"

	"gentleharbor/core/engine"
	"gentleharbor/core/engine/greeting"
	"gentleharbor/core/engine/oracle/tns"
	"gentleharbor/core/profile/key"
)

// Spec is the engine.
var Spec = &engine.Spec{
	Word:       Word,
	Name:       "Oracle",
	Port:       1521,
	Begin:      Begin,
	Statements: statements,
	Provision:  provision,
	Keys: engine.Keys{
		Only: []key.Name{key.Service, key.Instance, key.As},
		Idle: map[key.Name]string{key.Database: "the service decides which one is opened"},
		Needs: engine.Need{
			Keys: []key.Name{key.Service, key.Instance},
			What: "which service the listener is to be asked for",
			Ask:  "service, as the listener knows it",
		},
		Rights: []string{"sysdba", "sysoper", "sysbackup", "sysdg", "syskm", "sysrac", "sysasm"},
	},
	URL: engine.URL{
		Scheme:     Word,
		Schemes:    []string{Word},
		Path:       key.Service,
		Parameters: map[string]engine.Parameter{"SID": {Key: string(key.Instance)}, "sid": {Key: string(key.Instance)}},
		Write:      writeURL,
	},
	Greeting: &greeting.Greeting{
		Engine:    Word,
		Protocol:  "Oracle's",
		Opening:   opening,
		Recognise: recognise,
		Unusual:   true,
	},
	Listener: &engine.Listener{
		Ask:        askListener,
		UnknownDo:  "as an administrator, run: SELECT name FROM v$active_services (what the database tells the listener)",
		TLSSetting: "set SSL_VERSION = 1.2 in the listener's sqlnet.ora",
	},
	Image: &engine.Image{
		Marks:    []string{"ORACLE_SID", "ORACLE_BASE"},
		Settings: []string{"ORACLE_PWD", "ORACLE_PDB"},
		Service:  []string{"ORACLE_PDB", "ORACLE_SID"},
		Root:     "SYSTEM",
		RootPass: []string{"ORACLE_PWD", "ORACLE_PASSWORD"},
		Folders:  []string{"/opt/oracle/oradata"},
		Log: engine.Log{
			Begins: []string{"ORACLE EDITION", "CONTAINER: starting up"},
			Ready:  []string{"DATABASE IS READY TO USE"},
			Fails:  []string{"ORA-", "DATABASE SETUP WAS NOT SUCCESSFUL"},
		},
	},
	Accounts:  engine.Accounts{Administrators: []string{"sys", "system"}},
	Identity:  engine.Identity{Name: "the database ids"},
	RefusedDo: "on the server, run: ss -ltn (is the listener up, and at this port?)",
}

// greetings are the listener's alone.
var greetings = greeting.Set{Spec.Greeting}

// writeURL puts the service in place of the database.
func writeURL(c *engine.Connection, u *engine.URLParts) {
	u.Host = c.First().String()
	u.Path = "/" + c.Service
	u.Query["SID"] = c.Instance
}

// askListener asks a listener for a service.
func askListener(conn io.ReadWriter, q engine.ServiceQuestion) (engine.ServiceAnswer, error) {
	answer, err := tns.Ask(conn, tns.Target{
		Host:     q.Host,
		Port:     q.Port,
		Service:  q.Service,
		Instance: q.Instance,
		Secure:   q.Secure,
		Program:  "gharbor",
	})
	switch {
	case err != nil:
		return engine.ServiceAnswer{}, err
	case answer.Type == tns.Accept:
		return engine.ServiceAnswer{State: engine.ServiceKnown}, nil
	case answer.Type == tns.Redirect:
		return engine.ServiceAnswer{
			State: engine.ServiceElsewhere,
			Host:  answer.Place.Host,
			Port:  answer.Place.Port,
		}, nil
	case answer.Refusal.Unknown():
		return engine.ServiceAnswer{State: engine.ServiceUnknown, Said: answer.Refusal.Number()}, nil
	}
	return engine.ServiceAnswer{State: engine.ServiceBlocked, Said: answer.Refusal.Number()}, nil
}
