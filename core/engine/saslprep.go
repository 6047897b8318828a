package engine

import "github.com/xdg-go/stringprep"

// SASLPrep prepares a password for a SCRAM login as servers prepare it before they store it: by SASLprep (RFC 4013),
// which makes ² a 2 and leaves a soft hyphen out. A password that SASLprep refuses is used as it is (PostgreSQL,
// pg_saslprep).
func SASLPrep(password string) string {
	prepared, err := stringprep.SASLprep.Prepare(password)
	if err != nil {
		return password
	}
	return prepared
}
