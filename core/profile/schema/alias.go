package schema

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/profile/syntax"
)

var picks = []string{"in-order", "random", "fastest"}

// UnknownAliasKey is the message for a key that no alias has, with the nearest one.
func (s *Schema) UnknownAliasKey(name string) string {
	if slices.Contains(syntax.PasswordKeys, strings.ToLower(name)) {
		return "an alias has no password; the profile says where it is (or the wallet has it, for alias:NAME)"
	}
	if name == "host" || name == "hosts" || name == "address" {
		return fmt.Sprintf(`unknown key %s; did you mean addresses = ["HOST:PORT"]?`, clean.Name(name))
	}
	return UnknownOf(name, "an alias", s.aliasFields)
}

// validAliasWord accepts what may name an alias where one is used: a name, also with
// "project:" or "service:" before it. The names of services are those of a service file.
func validAliasWord(s string) bool {
	if service, ok := strings.CutPrefix(s, syntax.ServicePrefix); ok {
		return service != "" && len(service) <= 200 && !strings.ContainsAny(service, "]\"'`$\\;&|<> \t")
	}
	return syntax.ValidName(strings.TrimPrefix(s, syntax.ProjectPrefix))
}

func validRetries(s string) bool {
	n, err := strconv.Atoi(s)
	return err == nil && n >= 0 && n <= 10
}

// validSRV accepts _service._proto.name (RFC 2782).
func validSRV(s string) bool {
	parts := strings.SplitN(strings.TrimSuffix(s, "."), ".", 3)
	if len(parts) < 3 || !strings.HasPrefix(parts[0], "_") || parts[1] != "_tcp" || len(parts[0]) < 2 {
		return false
	}
	return syntax.ValidHost(strings.Trim(parts[0], "_")) && syntax.ValidHost(parts[2])
}
