package redis

import "gentleharbor/core/engine"

// parameters are those of connection URLs (IANA, URI schemes "redis" and "rediss"), and of the variables of usual
// container images.
var parameters = map[string]engine.Parameter{
	"host":     {Form: engine.Hosts},
	"port":     {Key: "port"},
	"user":     {Key: "user"},
	"db":       {Key: "database"},
	"socket":   {Key: "socket"},
	"password": {Form: engine.Password},
}

// writeURL fills in a connection URL.
func writeURL(c *engine.Connection, u *engine.URLParts) {
	if c.TLS == "required" || c.TLS == "verified" {
		u.Scheme = "rediss"
	}
	if c.Socket() != "" {
		u.Host = c.Socket() // whose slashes are escaped
	}
}

// clientVariables are for applications: the servers' own client reads only one for the password.
func clientVariables(c *engine.Connection) []engine.Variable {
	all := []engine.Variable{{Name: "REDIS_DB", Value: c.Database}, {Name: "REDIS_USERNAME", Value: c.User}}
	if c.Socket() != "" {
		all = append(all, engine.Variable{Name: "REDIS_SOCKET", Value: c.Socket()})
	} else {
		all = append(all, engine.Variable{Name: "REDIS_HOST", Value: c.Host()},
			engine.Variable{Name: "REDIS_PORT", Value: c.Port()})
	}
	var given []engine.Variable
	for _, v := range all {
		if v.Value != "" {
			given = append(given, v)
		}
	}
	return given
}

// variables are those that applications and usual images read.
var variables = []engine.Family{{
	Names: map[string]string{
		"REDIS_HOST":     "host",
		"REDIS_PORT":     "port",
		"REDIS_DB":       "db",
		"REDIS_USERNAME": "user",
		"REDIS_PASSWORD": "password",
		"REDISCLI_AUTH":  "password",
	},
	Least:  []string{"REDIS_HOST", "REDIS_DB", "REDIS_USERNAME"},
	Prefix: "REDIS_",
}}
