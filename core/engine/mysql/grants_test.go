package mysql

import (
	"strings"
	"testing"
)

func TestGranted(t *testing.T) {
	for line, want := range map[string]string{
		"GRANT USAGE ON *.* TO `warden`@`%` IDENTIFIED BY PASSWORD '*19A4'":                     "server|||log in|",
		"GRANT ALL PRIVILEGES ON *.* TO 'root'@'localhost' IDENTIFIED BY 'x' WITH GRANT OPTION": "server|||all privileges|may grant it",
		"GRANT SELECT, INSERT (`place`, `bird`), UPDATE ON `marsh`.`hide` TO `warden`@`%`":      "table|marsh|hide|select, insert (place, bird), update|",
		"GRANT SELECT ON `marsh\\_1`.* TO `counters`":                                           "schema|marsh_1|marsh_1|select|by the role counters",
		"GRANT SELECT ON `test`.* TO PUBLIC":                                                    "schema|test|test|select|as every account",
		"GRANT EXECUTE ON FUNCTION `marsh`.`a.b` TO `warden`@`%`":                               "function|marsh|a.b|execute|",
		"GRANT SELECT ON `odd TO x`.`b``c` TO `warden`@`%`":                                     "table|odd TO x|b`c|select|",
		"GRANT `counters`,`others`@`%` TO `warden`@`%`":                                         "server|||use the role counters, others|",
		"REVOKE INSERT ON `mysql`.* FROM `warden`@`%`":                                          "schema|mysql|mysql|not: insert|",
		"GRANT PROXY ON ''@'%' TO 'root'@'localhost' WITH GRANT OPTION":                         "",
		"GRANT USAGE ON *.* TO `counters`":                                                      "",
		"SET DEFAULT ROLE `counters` FOR `warden`@`%`":                                          "",
		"GRANT": "", "": "", "GRANT SELECT ON": "", "GRANT ON TO `x`": "", "GRANT SELECT ON `x`.* TO": "",
	} {
		got := ""
		for _, row := range parseGrants([][]byte{[]byte(line)}) {
			var values []string
			for _, v := range row[:5] {
				values = append(values, string(v))
			}
			got = strings.Join(values, "|")
		}
		if got != want {
			t.Errorf("%s\n gives %s\n not   %s", line, got, want)
		}
	}
	if parseGrants(nil) != nil {
		t.Error("a row without a value")
	}
}

// FuzzGranted: no line is too odd, and no password as it is kept is taken along.
func FuzzGranted(f *testing.F) {
	f.Add("SELECT ON `a`.`b`", "%")
	f.Add("SELECT (`a`) ON *.*", "` TO `")
	f.Fuzz(func(t *testing.T, what, host string) {
		const kept = "*19A4904A05D0ECDE0903BCF4B5072C531715E2E5"
		if strings.ContainsAny(what+host, "`'\"") {
			return
		}
		for _, row := range parseGrants([][]byte{[]byte("GRANT " + what + " TO `w`@`" + host + "` IDENTIFIED BY PASSWORD '" + kept + "'")}) {
			for _, v := range row {
				if strings.Contains(string(v), kept) {
					t.Errorf("%q", v)
				}
			}
		}
	})
}

func TestIsBytes(t *testing.T) {
	for kind, want := range map[string]bool{"blob": true, "varbinary(9)": true, "bit(9)": true, "MULTIPOINT": true, "text": false, "varchar(9)": false, "inet6": false, "": false} {
		if isBytes(kind) != want {
			t.Errorf("%s: %v", kind, !want)
		}
	}
}

func TestNames(t *testing.T) {
	for name, want := range map[string]string{"hide": "hide", "Hide1": "Hide1", "order": "`order`", "ORDER": "`ORDER`", "1e5": "`1e5`", "a b": "`a b`", "a`b": "`a``b`", "": "``", "_x$": "_x$"} {
		if got := statements.Name(name); got != want {
			t.Errorf("%q is typed %s, not %s", name, got, want)
		}
	}
	for name, want := range map[string]string{"warden@%": "'warden'@'%'", "o'k@::1": "'o''k'@'::1'", "counters": "counters", "a b": "`a b`"} {
		if got := statements.AccountName(name); got != want {
			t.Errorf("%q is typed %s, not %s", name, got, want)
		}
	}
}
