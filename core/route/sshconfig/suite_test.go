//go:build unix

package sshconfig

import (
	"errors"
	"os"
	"os/user"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"gentleharbor/internal/testkit"
)

// theirConfig is the client configuration that OpenSSH's regression scripts begin with, as far as it says where to go.
const theirConfig = `Host *
	Hostname 127.0.0.1
	HostKeyAlias localhost-with-alias
	Port 4242
	UserKnownHostsFile known_hosts
`

// TestTheirScripts plays the client configurations of OpenSSH's own regression scripts: this reader and the system's
// client make the same of each, or this one refuses.
func TestTheirScripts(t *testing.T) {
	t.Parallel()
	for script, least := range map[string]int{"cfginclude.sh": 18, "sshcfgparse.sh": 15, "percent.sh": 90} {
		t.Run(script, func(t *testing.T) {
			t.Parallel()
			calls := testkit.SSHCalls(t, script, map[string]string{"ssh_config": theirConfig, "ssh_proxy": theirConfig,
				"known_hosts": "# none\n", "none": ""})
			judged := 0
			for _, call := range calls {
				if judgedAs(t, call) {
					judged++
				}
			}
			t.Logf("%d of %d calls judged", judged, len(calls))
			if judged < least {
				t.Errorf("only %d of %d calls were judged", judged, len(calls))
			}
		})
	}
}

// judgedAs compares one call of ssh with what this reader makes of it; false where the call says nothing of a host.
func judgedAs(t *testing.T, call testkit.Call) bool {
	t.Helper()
	file, head, asked := arguments(call.Words)
	data, err := os.ReadFile(filepath.Join(call.Folder, filepath.Base(file)))
	if err != nil || asked.Alias == "" {
		return false
	}
	account, err := user.Current()
	if err != nil {
		t.Fatal(err)
	}
	r := reader(t, map[string]string{".ssh/config": head + string(data)})
	r.User, r.System = account.Username, "/nowhere"
	r.Lookup = func(name string) (string, bool) {
		return map[string]string{"FOO": "bar"}[name], name == "FOO"
	}
	h, err := r.Read(asked)
	var refusal *Refusal
	switch {
	case !call.Asked:
		return err == nil && strings.Contains(head, "userknownhostsfile") && knownHosts(t, call, h)
	case errors.As(err, &refusal):
		return call.Code != 0 // what ssh takes is to be taken
	case err != nil:
		t.Errorf("%q: %v", call.Words, err)
		return false
	case call.Code != 0:
		return strings.Contains(string(data), "ssh_config.i.*") // a line that a newer ssh may know, in another file
	}
	if ours, theirs := way(h), sshWay(call.Out); !slices.Equal(ours, theirs) {
		t.Errorf("%q: ours %q, ssh's %q", call.Words, ours, theirs)
	}
	if strings.HasPrefix(head, "identityagent") {
		agent := shown(call.Out, "identityagent")
		if !filepath.IsAbs(agent) { // see path: a relative one belongs to the home folder
			agent = filepath.Join(account.HomeDir, agent)
		}
		ours := strings.ReplaceAll(h.IdentityAgent.Value, r.Home, account.HomeDir)
		if filepath.Clean(ours) != filepath.Clean(agent) {
			t.Errorf("%q: ours %q, ssh's %q", call.Words, ours, agent)
		}
	}
	return true
}

// knownHosts reports whether the file of known hosts that a call names is there: the script has moved it where ssh looks.
func knownHosts(t *testing.T, call testkit.Call, h *Host) bool {
	t.Helper()
	if len(h.UserKnownHosts) != 1 {
		t.Errorf("%q: %d files", call.Words, len(h.UserKnownHosts))
		return false
	}
	if _, err := os.Stat(h.UserKnownHosts[0].Value); err != nil {
		t.Errorf("%q: %v", call.Words, err)
	}
	return true
}

// arguments takes the arguments of ssh apart: its configuration, the lines that stand above it, and what is asked for.
func arguments(words []string) (file, head string, asked Request) {
	for i := 0; i < len(words); i++ {
		option, ok := strings.CutPrefix(words[i], "-")
		if !ok && asked.Alias == "" {
			name, host, ok := strings.Cut(words[i], "@")
			if !ok {
				name, host = "", words[i]
			}
			asked.User, asked.Alias = firstOf(asked.User, name), host
		}
		if !ok {
			continue
		}
		option = strings.TrimPrefix(option, "G")
		if option == "" {
			continue
		}
		letter, value := option[0], option[1:]
		if value == "" && i+1 < len(words) {
			i++
			value = words[i]
		}
		switch letter {
		case 'F':
			file = value
		case 'l':
			asked.User = firstOf(asked.User, value)
		case 'o':
			if name, ok := strings.CutPrefix(value, "user="); ok {
				asked.User = firstOf(asked.User, name)
			} else {
				head += value + "\n"
			}
		}
	}
	return file, head, asked
}

func firstOf(a, b string) string {
	if a != "" {
		return a
	}
	return b
}

// cText is a text of the C language in a unit test of OpenSSH.
const cText = `"((?:[^"\\]|\\.)*)"`

// unit is a unit test of OpenSSH.
func unit(t *testing.T, path string) string {
	t.Helper()
	data, err := os.ReadFile(testkit.Source(t, "openssh/regress/unittests/"+path))
	if err != nil {
		t.Fatal(err)
	}
	return string(data)
}

// text reads a text of the C language.
func text(t *testing.T, quoted string) string {
	t.Helper()
	if strings.ContainsAny(strings.NewReplacer(`\\`, "", `\"`, "", `\'`, "").Replace(quoted), `\`) {
		t.Fatalf("%s has an escape that is not known here", quoted)
	}
	return strings.NewReplacer(`\\`, `\`, `\"`, `"`, `\'`, `'`).Replace(quoted)
}

// TestTheirWords: arguments are taken apart as in OpenSSH's own unit test.
func TestTheirWords(t *testing.T) {
	t.Parallel()
	source := unit(t, "misc/test_argv.c")
	calls := regexp.MustCompile(`argv_split\(` + cText + `, &ac, &av, (\d)\), (\S+)\);`)
	argument := regexp.MustCompile(`ASSERT_STRING_EQ\(av\[\d\], ` + cText + `\)`)
	cases := calls.FindAllStringSubmatchIndex(source, -1)
	for i, c := range cases {
		end := len(source)
		if i+1 < len(cases) {
			end = cases[i+1][0]
		}
		line, comments, result := text(t, source[c[2]:c[3]]), source[c[4]:c[5]] == "1", source[c[6]:c[7]]
		if !comments && strings.Contains(line, "#") {
			continue // a configuration has comments
		}
		var want []string
		for _, m := range argument.FindAllStringSubmatch(source[c[1]:end], -1) {
			want = append(want, text(t, m[1]))
		}
		_, got, err := split("User " + line)
		if none := strings.Trim(strings.TrimSpace(line), "#") == "" || strings.HasPrefix(strings.TrimSpace(line), "#"); none {
			continue // then the keyword has no value, which is refused
		}
		if (err != nil) != (result != "0") || err == nil && !slices.Equal(got, want) {
			t.Errorf("%q: %q %v, want %q", line, got, err, want)
		}
	}
	if len(cases) < 18 {
		t.Errorf("only %d cases were found", len(cases))
	}
}

// TestTheirTimes: times are read as in OpenSSH's own unit test.
func TestTheirTimes(t *testing.T) {
	t.Parallel()
	cases := regexp.MustCompile(`convtime\(`+cText+`\),\s+([^)]+)\);`).FindAllStringSubmatch(unit(t, "misc/test_convtime.c"), -1)
	for _, c := range cases {
		want := 1
		for factor := range strings.SplitSeq(c[2], "*") {
			n, err := strconv.Atoi(strings.TrimSpace(factor))
			if err != nil {
				t.Fatal(c[0])
			}
			want *= n
		}
		got, ok := duration(c[1])
		if ok != (want >= 0) || ok && got != time.Duration(want)*time.Second {
			t.Errorf("%q: %s %v, want %d s", c[1], got, ok, want)
		}
	}
	if len(cases) < 18 {
		t.Errorf("only %d cases were found", len(cases))
	}
}

// TestTheirHosts: a host that OpenSSH's own unit tests take apart with a path behind it is none to jump over, and one
// with a port is.
func TestTheirHosts(t *testing.T) {
	t.Parallel()
	paths := regexp.MustCompile(`parse_(?:uri\("ssh", |user_host_path\()`+cText).FindAllStringSubmatch(unit(t, "misc/test_parse.c"), -1)
	for _, c := range paths {
		if strings.HasSuffix(c[1], ":") {
			continue // an empty path there, and here no port: ssh takes it
		}
		if j, ok := ParseJump(c[1]); ok {
			t.Errorf("%q: %+v", c[1], j)
		}
	}
	hosts := regexp.MustCompile(`START_STRING\(`+cText).FindAllStringSubmatch(unit(t, "misc/test_hpdelim.c"), -1)
	for _, c := range hosts {
		j, ok := ParseJump(c[1])
		want := map[string]Jump{"host": {"", "host", 0}, "host:1234": {"", "host", 1234}, "[::1]:1234": {"", "::1", 1234}}[c[1]]
		if ok != (want.Host != "") || ok && j != want {
			t.Errorf("%q: %+v %v", c[1], j, ok)
		}
	}
	if len(paths) < 6 || len(hosts) < 5 {
		t.Errorf("only %d and %d cases were found", len(paths), len(hosts))
	}
}

// TestTheirVariables: variables are expanded as in OpenSSH's own unit test.
func TestTheirVariables(t *testing.T) {
	t.Parallel()
	cases := regexp.MustCompile(`ASSERT_DOLLAR_EQ\(`+cText+`, `+cText).FindAllStringSubmatch(unit(t, "misc/test_expand.c"), -1)
	p := &parser{Reader: Reader{Lookup: func(name string) (string, bool) {
		value, ok := map[string]string{"FOO": "bar", "BAR": "baz"}[name]
		return value, ok
	}}}
	for _, c := range cases {
		if got := p.variables(c[1]); got != c[2] {
			t.Errorf("%q: %q, want %q", c[1], got, c[2])
		}
	}
	if len(cases) < 11 {
		t.Errorf("only %d cases were found", len(cases))
	}
}
