package redis

import "gentleharbor/core/engine"

// The variables of a container that is made here. The image itself makes no account.
const (
	userVariable     = "REDIS_USER"
	passwordVariable = "REDIS_PASSWORD"
)

// makeAccount starts the server with one account. The settings come from its standard input: the password is in no
// argument, and the server gets its SHA-256.
const makeAccount = `password=${REDIS_PASSWORD:-$(cat "$REDIS_PASSWORD_FILE")}; user=${REDIS_USER:-default}; ` +
	`hash=$(printf %s "$password" | sha256sum | cut -c 1-64); unset password; ` +
	`{ [ "$user" = default ] || echo "user default off"; echo "user $user on #$hash ~* &* +@all"; } | ` +
	`exec docker-entrypoint.sh redis-server -`

// recipe is how a container is made.
var recipe = &engine.Recipe{
	User:     userVariable,
	Password: passwordVariable,
	Command:  []string{"sh", "-c", makeAccount},
	Check: func(string, string, int) []string {
		return []string{"CMD-SHELL", "redis-cli ping | grep -qE 'PONG|NOAUTH'"}
	},
	Tag: func(major, minor string) string {
		if minor == "" {
			return major
		}
		return major + "." + minor
	},
}
