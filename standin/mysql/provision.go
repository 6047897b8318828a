package mysql

import (
	"crypto/sha1"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
)

// accounts are the present accounts, with those that an administrator made.
func (s *Server) accounts() []Account {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.Accounts)
}

// Allow makes an account.
func (s *Server) Allow(a Account) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.Accounts = append(s.Accounts, a)
}

// Forbid removes the accounts of a user. Their sessions go on.
func (s *Server) Forbid(user string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.Accounts = slices.DeleteFunc(slices.Clone(s.Accounts), func(a Account) bool { return a.User == user })
}

// databases are those that are there now.
func (s *Server) databases() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.Databases)
}

// provision answers an administrator's questions about accounts and databases, and makes changes; done is false for
// another statement.
func (s *session) provision(sql string) (done bool, err error) {
	has := func(part string) bool { return strings.Contains(sql, part) }
	switch {
	case strings.HasPrefix(sql, "SET SESSION sql_mode"):
		return true, s.acceptLogin()
	case sql == "SELECT CURRENT_USER()":
		return true, s.rows([]string{"account"}, [][]string{{s.account.User + "@" + s.account.Host}})
	case has("FROM information_schema.PROCESSLIST WHERE ID"):
		return true, s.rows([]string{"HOST"}, [][]string{{s.seenOf(sql)}})
	case has("partial_revokes"):
		return true, s.rows([]string{"Variable_name", "Value"}, nil)
	case has("default_authentication_plugin"):
		return true, s.rows([]string{"Variable_name", "Value"}, [][]string{{"default_authentication_plugin", s.Method}})
	case has("information_schema.SCHEMATA"):
		return true, s.rows([]string{"1"}, present(s.databases(), last(literals(sql))))
	case has("SELECT User, Host, plugin, authentication_string FROM mysql.user"):
		return true, s.answerStored(literals(sql)[0])
	case strings.HasPrefix(sql, "SHOW GRANTS FOR "):
		words := literals(sql)
		for _, a := range s.accounts() {
			if a.User == words[0] && a.Host == words[1] {
				return true, s.rows([]string{"Grants"}, grantsOf(a))
			}
		}
		return true, s.wire.fail(1141, "42000", "There is no such grant defined for user")
	}
	if strings.HasPrefix(sql, "ALTER USER USER() IDENTIFIED BY ") {
		s.mu.Lock()
		for i, a := range s.Accounts {
			if a.User == s.account.User && a.Host == s.account.Host {
				s.Accounts[i].Password, s.Accounts[i].Stored = literals(sql)[0], ""
			}
		}
		s.mu.Unlock()
		return true, s.acceptLogin()
	}
	if !s.account.Admin {
		return false, nil
	}
	return s.change(sql)
}

// change runs a statement of an administrator.
func (s *session) change(sql string) (done bool, err error) {
	first, rest, _ := strings.Cut(sql, " ")
	words := literals(sql)
	s.mu.Lock()
	switch what, _, _ := strings.Cut(rest, " "); {
	case first == "CREATE" && what == "DATABASE":
		s.Databases = append(s.Databases, strings.Trim(strings.TrimPrefix(sql, "CREATE DATABASE "), "`"))
	case first == "DROP" && what == "DATABASE":
		gone := strings.Trim(strings.TrimPrefix(sql, "DROP DATABASE "), "`")
		s.Databases = slices.DeleteFunc(s.Databases, func(d string) bool { return d == gone })
	case first == "CREATE" && what == "USER" && len(words) > 1:
		s.Accounts = append(s.Accounts, Account{User: words[0], Host: words[1], Method: s.Method, Stored: formOf(words)})
	case what == "USER" && len(words) > 1:
		s.alter(first, sql, words)
	case first == "GRANT", first == "REVOKE":
		s.grant(first, sql, words)
	default:
		s.mu.Unlock()
		return false, nil
	}
	s.mu.Unlock()
	return true, s.acceptLogin()
}

// alter changes or drops an account. The lock is held.
func (s *session) alter(verb, sql string, words []string) {
	at := slices.IndexFunc(s.Accounts, func(a Account) bool { return a.User == words[0] && a.Host == words[1] })
	if at < 0 {
		return
	}
	a := &s.Accounts[at]
	switch {
	case verb == "DROP":
		s.Accounts = slices.Delete(slices.Clone(s.Accounts), at, at+1)
	case strings.Contains(sql, "ACCOUNT UNLOCK"):
		a.Locked = false
	case strings.Contains(sql, "PASSWORD EXPIRE NEVER"), strings.Contains(sql, "PASSWORD EXPIRE INTERVAL"):
		_, a.Lifetime, _ = strings.Cut(sql, "PASSWORD ")
	case strings.Contains(sql, "PASSWORD EXPIRE"):
		a.Expired = true
	case formOf(words) != "":
		a.Password, a.Stored, a.Expired = "", formOf(words), false
	}
}

// grant gives an account rights in a database, or takes them. The lock is held.
func (s *session) grant(verb, sql string, words []string) {
	_, rest, _ := strings.Cut(sql, " ON `")
	name, _, _ := strings.Cut(rest, "`")
	name = strings.NewReplacer(`\_`, "_", `\%`, "%").Replace(name)
	for i := range s.Accounts {
		a := &s.Accounts[i]
		if len(words) < 2 || a.User != words[len(words)-2] || a.Host != words[len(words)-1] {
			continue
		}
		a.Databases = slices.DeleteFunc(slices.Clone(a.Databases), func(d string) bool { return d == name })
		if verb == "GRANT" {
			a.Databases = append(a.Databases, name)
		}
	}
}

// formOf is the stored form of a password among the texts of a statement, "" for none.
func formOf(words []string) string {
	if len(words) > 2 && strings.HasPrefix(words[2], "*") {
		return words[2]
	}
	return ""
}

// answerStored answers which accounts of a name exist, and the stored form of each password.
func (s *session) answerStored(name string) error {
	if !s.account.Admin {
		return s.wire.fail(1142, "42000", "SELECT command denied to user for table 'user'")
	}
	var rows [][]string
	for _, a := range s.accounts() {
		if a.User == name || a.User == "" {
			form := a.Stored
			if form == "" && a.Password != "" {
				form = nativeForm(a.Password)
			}
			rows = append(rows, []string{a.User, a.Host, s.Method, form})
		}
	}
	return s.rows([]string{"User", "Host", "plugin", "authentication_string"}, rows)
}

// nativeForm is the stored form of a password for mysql_native_password.
func nativeForm(password string) string {
	one := sha1.Sum([]byte(password))
	two := sha1.Sum(one[:])
	return "*" + strings.ToUpper(hex.EncodeToString(two[:]))
}

// nativeRight reports whether an answer proves the password, by its stored form: the answer is SHA1(password) XOR
// SHA1(salt, stored).
func nativeRight(response []byte, stored string) bool {
	two, err := hex.DecodeString(strings.TrimPrefix(stored, "*"))
	if err != nil || len(response) != sha1.Size {
		return false
	}
	one := sha1.Sum(append(slices.Clone(salt), two...))
	for i := range one {
		one[i] ^= response[i]
	}
	again := sha1.Sum(one[:])
	return slices.Equal(again[:], two)
}

// seenOf is the client's host of the connection with a number.
func (s *session) seenOf(sql string) string {
	var number int
	fmt.Sscanf(sql[strings.LastIndexByte(sql, '=')+1:], "%d", &number)
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.from[number]
}

func last(words []string) string {
	if len(words) == 0 {
		return ""
	}
	return words[len(words)-1]
}
