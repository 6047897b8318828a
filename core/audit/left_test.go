package audit

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"gentleharbor/core/finding"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/resolve"
)

// TestLeftOver: passwords that nobody means to keep are found where they were left, and are not shown.
func TestLeftOver(t *testing.T) {
	home := t.TempDir()
	work := filepath.Join(home, "work", "deep")
	os.MkdirAll(work, 0o700)
	for name, text := range map[string]string{
		".bash_history":    "ls\npsql postgresql://w:knot-1@h/d\nmysql -u w -pknot-2 d\nPGPASSWORD=knot-3 psql\necho $PGPASSWORD\n",
		".zsh_history":     ": 1:0;psql -p 5433 -h h\nmysql -p d\nexport PGPASSWORD=$(pass)\n",
		".mysql_history":   "CREATE USER w IDENTIFIED BY 'knot-4';\n",
		".psql_history":    "SELECT password FROM account;\n",
		".pg_service.conf": "[a]\nhost=h\npassword=knot-5\n[b]\nhost=h\n",
		".env":             "DB_PASSWORD=knot-6\n",
	} {
		os.WriteFile(filepath.Join(home, name), []byte(text), 0o600)
	}
	os.Chmod(filepath.Join(home, ".bash_history"), 0o644)
	project := filepath.Join(home, "work", profile.ProjectFile)
	os.WriteFile(project, []byte("format = 1\n"), 0o600)
	os.Chmod(project, 0o666)
	path := filepath.Join(home, "profiles.toml")
	file, err := profile.Parse(keys, path, []byte("[profile.a]\nengine = \"postgresql\"\nhost = \"h\"\nuser = \"w\"\nsecret = \"env:PGPASSWORD\"\ntls = \"verified\"\nnote = \"see postgresql://w:knot-7@h/d\"\n"))
	if err != nil {
		t.Fatal(err)
	}
	variables := map[string]string{"PGPASSWORD": "knot-8", "MYSQL_PWD": "knot-9", "DATABASE_URL": "mysql://w:knot-10@h/d"}
	lookup := func(name string) (string, bool) { value, ok := variables[name]; return value, ok }
	s := Subject{Home: home, Folder: home, Work: work, Engines: keys.Engines(), Lookup: lookup,
		Profiles: []*resolve.Profile{resolve.Resolve(file, file.Lookup("a"), nil, resolve.Environment{Home: home, Lookup: lookup})}}
	var got []string
	for _, i := range Run(t.Context(), s) {
		text := string(i.Code) + " " + strings.TrimPrefix(i.Place.String(), home+"/")
		got = append(got, text)
		if strings.Contains(text+i.Why+strings.Join(i.Try, ""), "knot-") {
			t.Errorf("a password is shown: %+v", i)
		}
	}
	all := "\n" + strings.Join(got, "\n") + "\n"
	plain := string(finding.AuditPlainPassword)
	for _, want := range []string{"audit.permissions .bash_history", plain + " .bash_history:2", plain + " .mysql_history:1", plain + " .pg_service.conf:1", plain + " .env:1",
		plain + " variable MYSQL_PWD", plain + " variable DATABASE_URL", plain + " profiles.toml:7 (profile a)", "audit.permissions work/" + profile.ProjectFile} {
		if !strings.Contains(all, "\n"+want+"\n") {
			t.Errorf("no %q in%s", want, all)
		}
	}
	for _, not := range []string{".zsh_history", ".psql_history", "PGPASSWORD"} { // nothing, nothing, and used by a profile
		if strings.Contains(all, not) {
			t.Errorf("%s in%s", not, all)
		}
	}
}
