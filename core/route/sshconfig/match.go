package sshconfig

import (
	"strings"

	"gentleharbor/core/route/sshpattern"
)

// matchesCriteria judges a Match line. doubt names a criterion that can't be
// judged, where all others hold.
func (p *parser) matchesCriteria(args []string) (matched bool, doubt string) {
	for i := 0; i < len(args); i++ {
		criterion, value, joined := strings.Cut(strings.ToLower(args[i]), "=")
		negated := strings.HasPrefix(criterion, "!")
		criterion = strings.TrimPrefix(criterion, "!")
		switch criterion {
		case "all":
			if negated {
				return false, ""
			}
			continue
		case "canonical":
			if !negated {
				return false, "" // names are never canonicalised here
			}
			continue
		case "final":
			if !negated {
				doubt = criterion
			}
			continue
		}
		if !joined {
			if i++; i == len(args) {
				return false, ""
			}
			value = args[i]
		}
		holds := false
		switch criterion {
		case "host":
			name := strings.NewReplacer("%%", "%", "%h", p.host.Alias).Replace(p.setting("hostname", p.host.Alias).Value)
			holds = sshpattern.List(strings.Split(value, ","), name)
		case "originalhost":
			holds = sshpattern.List(strings.Split(value, ","), p.host.Alias)
		case "user":
			holds = sshpattern.List(strings.Split(value, ","), p.setting("user", p.User).Value)
		case "localuser":
			holds = sshpattern.List(strings.Split(value, ","), p.User)
		default: // exec, tagged, localnetwork, command, version, sessiontype
			doubt = criterion
			continue
		}
		if holds == negated {
			return false, ""
		}
	}
	return doubt == "", doubt
}
