package mongodb

import (
	"strings"

	"gentleharbor/core/engine"
	"gentleharbor/core/profile/key"
)

// parameters are the options of connection strings (MongoDB documentation, "Connection String Options").
var parameters = map[string]engine.Parameter{
	"host":     {Form: engine.Hosts},
	"port":     {Key: "port"},
	"user":     {Key: "user"},
	"dbname":   {Key: "database"},
	"password": {Form: engine.Password},

	"authSource": {Key: string(key.AuthDatabase)},
	"replicaSet": {Key: string(key.ExpectReplicaSet)},
	"tls":        tlsSwitch,
	"ssl":        tlsSwitch,
	"tlsCAFile":  {Key: string(key.TLSCA)},
	"readPreference": {
		Key: string(key.Target),
		Values: map[string]string{
			"primary":            "writable",
			"primarypreferred":   "any",
			"secondary":          "read-only",
			"secondarypreferred": "any",
			"nearest":            "any",
		},
		Fold:     true,
		Expected: "one of primary, primaryPreferred, secondary, secondaryPreferred, nearest",
	},
	"tlsCertificateKeyFile":         {Key: string(key.TLSCert)},
	"tlsCertificateKeyFilePassword": {Form: engine.Passphrase},
	"tlsInsecure":                   weakSwitch,
	"tlsAllowInvalidCertificates":   weakSwitch,
	"tlsAllowInvalidHostnames":      weakSwitch,
	"authMechanism": {
		Values: map[string]string{
			"scram-sha-1": "", "scram-sha-256": "", "plain": "", "mongodb-x509": "", "default": "",
		},
		Fold: true,
		Expected: "one of SCRAM-SHA-256, SCRAM-SHA-1, PLAIN, MONGODB-X509; gharbor does no other login, and takes the " +
			"strongest that the server has for the account",
	},

	"authMechanismProperties":              {Form: engine.Idle},
	"appName":                              {Form: engine.Idle},
	"compressors":                          {Form: engine.Idle},
	"connectTimeoutMS":                     {Form: engine.Idle},
	"directConnection":                     {Form: engine.Idle},
	"enableOverloadRetargeting":            {Form: engine.Idle},
	"heartbeatFrequencyMS":                 {Form: engine.Idle},
	"journal":                              {Form: engine.Idle},
	"loadBalanced":                         {Form: engine.Idle},
	"localThresholdMS":                     {Form: engine.Idle},
	"maxConnecting":                        {Form: engine.Idle},
	"maxIdleTimeMS":                        {Form: engine.Idle},
	"maxPoolSize":                          {Form: engine.Idle},
	"maxStalenessSeconds":                  {Form: engine.Idle},
	"minPoolSize":                          {Form: engine.Idle},
	"proxyHost":                            {Form: engine.Unkept, Expected: "a hop of the profile leads through a proxy"},
	"readConcernLevel":                     {Form: engine.Idle},
	"readPreferenceTags":                   {Form: engine.Idle},
	"retryReads":                           {Form: engine.Idle},
	"retryWrites":                          {Form: engine.Idle},
	"serverMonitoringMode":                 {Form: engine.Idle},
	"serverSelectionTimeoutMS":             {Form: engine.Idle},
	"serverSelectionTryOnce":               {Form: engine.Idle},
	"socketTimeoutMS":                      {Form: engine.Idle},
	"srvMaxHosts":                          {Form: engine.Idle},
	"srvServiceName":                       {Form: engine.Idle},
	"timeoutMS":                            {Form: engine.Idle},
	"tlsDisableCertificateRevocationCheck": {Form: engine.Idle},
	"tlsDisableOCSPEndpointCheck":          {Form: engine.Idle},
	"uuidRepresentation":                   {Form: engine.Idle},
	"w":                                    {Form: engine.Idle},
	"waitQueueMultiple":                    {Form: engine.Idle},
	"waitQueueTimeoutMS":                   {Form: engine.Idle},
	"wtimeoutMS":                           {Form: engine.Idle},
	"zlibCompressionLevel":                 {Form: engine.Idle},
}

var (
	tlsSwitch = engine.Parameter{
		Key:      string(key.TLS),
		Values:   map[string]string{"true": "verified", "false": "off"},
		Fold:     true,
		Expected: "true or false",
	}
	// weakSwitch asks for TLS without a check of the server's identity.
	weakSwitch = engine.Parameter{
		Values:   map[string]string{"true": "", "false": ""},
		Fold:     true,
		Expected: "true or false",
	}
)

// settleURL applies what options mean together: the account's database, the method of the login, and options that
// switch off the check of the certificate.
func settleURL(given map[string]string) (keys map[string]string, notes []string) {
	keys = make(map[string]string)
	option := func(name string) string {
		for n, value := range given {
			if strings.EqualFold(n, name) {
				return value
			}
		}
		return ""
	}
	switch method := strings.ToUpper(option("authMechanism")); {
	case option("authSource") != "":
	case method == methodX509, method == methodPlain:
		keys[string(key.AuthDatabase)] = external
	case option(engine.PathParameter) != "" && option(engine.UserParameter) != "":
		keys[string(key.AuthDatabase)] = option(engine.PathParameter)
	}
	for _, name := range []string{"tlsInsecure", "tlsAllowInvalidCertificates", "tlsAllowInvalidHostnames"} {
		if strings.EqualFold(option(name), "true") {
			keys[string(key.TLS)] = "required"
			notes = append(notes, name+"=true becomes tls=required: encrypted, and the server is not verified")
			break
		}
	}
	if path := option("tlsCertificateKeyFile"); path != "" {
		keys[string(key.TLSKey)] = path
	}
	return keys, notes
}

// writeURL fills in a connection string.
func writeURL(c *engine.Connection, u *engine.URLParts) {
	if c.Socket() != "" {
		u.Host = c.Socket() // whose slashes are escaped
	}
	u.Query["authSource"] = c.AuthDatabase
	if c.User != "" && c.AuthDatabase == "" {
		u.Query["authSource"] = usualAuthDatabase
	}
	switch {
	case c.Socket() != "":
	case c.TLS == "required":
		u.Query["tls"], u.Query["tlsInsecure"] = "true", "true"
	case c.TLS == "verified":
		u.Query["tls"] = "true"
	case c.TLS == "off":
		u.Query["tls"] = "false"
	}
	u.Query["tlsCAFile"] = c.CA
	if c.Cert != "" && c.Cert == c.Key {
		u.Query["tlsCertificateKeyFile"] = c.Cert
	}
	u.Query["readPreference"] = map[string]string{"writable": "primary", "read-only": "secondary"}[c.Target]
	if len(c.Servers) == 1 {
		u.Query["directConnection"] = "true"
	}
}
