package sshconfig

import (
	"errors"
	"fmt"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/route/sshpattern"
)

// matchesCriteria judges a Match line. doubt names a criterion that can't be
// judged, where all others hold. An error is a line for which OpenSSH refuses the file.
func (p *parser) matchesCriteria(args []string) (matched bool, doubt string, err error) {
	matched = true
	for n := 0; len(args) > 0; n++ {
		criterion := args[0]
		args = args[1:]
		negated := strings.HasPrefix(criterion, "!")
		criterion = strings.ToLower(strings.TrimPrefix(criterion, "!"))
		switch criterion {
		case "all":
			if n > 1 || len(args) > 0 {
				return false, "", errors.New("in a Match, all goes with no other criterion")
			}
			if matched = matched && !negated; !matched {
				doubt = ""
			}
			return matched && doubt == "", doubt, nil
		case "canonical", "final":
			switch {
			case negated:
			case criterion == "canonical": // names are never canonicalised here
				matched = false
			default:
				doubt = criterion
			}
			continue
		}
		if len(args) == 0 || args[0] == "" {
			return false, "", fmt.Errorf("in a Match, %s has no value", clean.Quote(criterion))
		}
		holds, known := p.holds(criterion, strings.Split(args[0], ","))
		args = args[1:]
		switch {
		case !known:
			doubt = criterion
		case holds == negated:
			matched = false
		}
	}
	if !matched {
		doubt = ""
	}
	return matched && doubt == "", doubt, nil
}

// holds judges one criterion. Hosts have no letter case, accounts have.
func (p *parser) holds(criterion string, patterns []string) (holds, known bool) {
	switch criterion {
	case "host":
		return sshpattern.List(patterns, p.hostName()), true
	case "originalhost":
		return sshpattern.List(patterns, p.host.Alias), true
	case "user":
		return sshpattern.Exact(patterns, p.setting("user", p.User).Value), true
	case "localuser":
		return sshpattern.Exact(patterns, p.User), true
	}
	return false, false // exec, tagged, localnetwork, command, version, sessiontype
}
