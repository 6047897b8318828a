package base

import (
	"os"
	"path/filepath"
	"runtime/debug"
	"strconv"
	"strings"

	"gentleharbor/core/alias"
	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/profile/syntax"
	"gentleharbor/core/vouch"
)

// Home opens the tool's own folder.
func (c *Call) Home() (profile.Home, error) {
	h, err := profile.FindHome(c.Keys, c.Lookup)
	if err != nil {
		return h, Failure(ExitFile, err)
	}
	h.Notice = func(text string) { c.Notice("%s", text) }
	h.AsFound = c.AsFound
	c.Log.Debug("home", "folder", h.Dir)
	return h, nil
}

// large is the size of a profile file, in bytes, from which collecting garbage
// would take a part of the time that is felt: about 1,500 profiles.
const large = 256 << 10

// Load reads the profiles, once.
func (c *Call) Load() (*profile.File, error) {
	if c.Loaded == nil {
		file, err := c.read()
		if err != nil {
			return nil, err
		}
		c.attach(file)
		if err := c.loadAliases(file); err != nil {
			return nil, err
		}
		c.Loaded = file
	}
	return c.Loaded, nil
}

// loadAliases reads the files of aliases: the user's, and the project's behind them.
func (c *Call) loadAliases(file *profile.File) error {
	h, err := c.Home()
	if err != nil {
		return err
	}
	home := c.Environment().Home
	judge := func(path string) *finding.Finding { return c.Vouched.JudgeFile(c.Keys, path, home) }
	c.Book, err = alias.Load(h, c.Lookup, home, judge, func(err error) { c.Notice("%s", clean.Line(err.Error(), 0)) })
	if err != nil {
		return err
	}
	c.Book.Project = file.ProjectFile()
	c.Book.Vouch = func(a *profile.Alias) (map[string][]byte, *finding.Finding) {
		return c.Vouched.JudgeAlias(a, c.Book.Home)
	}
	for _, f := range c.Book.Files {
		c.Log.Debug("aliases", "file", f.Path, "count", len(f.Aliases))
	}
	return nil
}

// attach looks for a project's file. One that is wrong, or somebody else's, is
// said and passed over: it can't keep the user from their own profiles.
func (c *Call) attach(file *profile.File) {
	place, ok := c.projectPlace()
	if !ok {
		return
	}
	project, err := profile.LoadProject(c.Keys, place)
	if err != nil {
		c.Notice("%s", clean.Line(err.Error(), 0))
		c.Broken = err
		return
	}
	c.Log.Debug("project", "file", project.Path, "count", len(project.Profiles))
	file.Attach(project)
}

// projectPlace is where the project's file is, or would be made.
func (c *Call) projectPlace() (place profile.Place, ok bool) {
	dir, err := c.WorkDir()
	if err != nil {
		return place, false
	}
	return profile.FindProject(dir)
}

// WorkDir is the working folder.
func (c *Call) WorkDir() (string, error) {
	if c.Dir != "" {
		return c.Dir, nil
	}
	return os.Getwd()
}

// Missing is the error for a profile that is not there. Where the project's file
// is wrong, the profile may stand in it.
func (c *Call) Missing(file *profile.File, name string) error {
	if c.Broken != nil {
		return c.Broken
	}
	return file.Missing(name)
}

// explainAddress returns the error for an address in place of a profile's name; nil for another word. It does not
// repeat the address, which may have a password in it.
func explainAddress(word string) error {
	_, rest, isURL := strings.Cut(word, "://")
	account, _, hasAccount := strings.Cut(rest, "@")
	switch {
	case isURL && hasAccount && strings.Contains(account, ":"):
		return Advise(Usage("a URL is no profile, and this one has a password in it. Passwords on the command line "+
			"end up in "+
			"the shell's history: treat this one as known to others"),
			"keep it as a profile: gharbor add NAME -url-stdin -into wallet (then paste the URL)")
	case isURL:
		return Advise(Usage("a URL is no profile: keep it under a name"), "run: gharbor add NAME URL -test")
	}
	host, port, _ := strings.Cut(word, ":")
	_, err := strconv.ParseUint(port, 10, 16)
	if err == nil && host != "" && !strings.HasPrefix(word, syntax.ProjectPrefix) {
		return Advise(Usage("an address is no profile: keep it under a name"),
			"run: gharbor add NAME -engine ENGINE -host HOST -port PORT -test")
	}
	return nil
}

// FindProfile finds a profile by its name, and notes where the project has one of the same name.
func (c *Call) FindProfile(file *profile.File, name string) (*profile.Profile, error) {
	p := file.Lookup(name)
	if p == nil && c.Broken == nil {
		if err := explainAddress(name); err != nil {
			return nil, err
		}
	}
	if p == nil {
		return nil, c.Missing(file, name)
	}
	if project := file.ProjectFile(); project != nil && !p.InProject() && project.Lookup(name) != nil {
		c.Notice("the project also has a profile %s; yours is used (the other is %s%s)", name,
			syntax.ProjectPrefix, name)
	}
	return p, nil
}

func (c *Call) read() (*profile.File, error) {
	h, err := c.Home()
	if err != nil {
		return nil, err
	}
	if info, err := os.Stat(h.ProfilesPath()); err == nil && info.Size() > large {
		debug.SetGCPercent(400) // a run this short ends before a collection is worth its time
	}
	file, err := h.Load()
	if err == nil {
		c.Log.Debug("profiles", "file", file.Path, "count", len(file.Profiles))
	}
	return file, err
}

// Environment is the part of the machine that resolving a profile needs.
func (c *Call) Environment() resolve.Environment {
	home := profile.UserHome(c.Lookup)
	if c.Vouched.Path == "" {
		if h, err := profile.FindHome(c.Keys, c.Lookup); err == nil {
			c.Vouched = vouch.NewBook(filepath.Join(h.Dir, "vouched.toml"))
		}
	}
	env := resolve.Environment{Lookup: c.Lookup, Home: home, Vouch: c.Vouched.Judge}
	if c.Book != nil {
		env.Aliases = c.Book
	}
	return env
}

// LikelyUser is the account that a person most likely has on a server of an engine: the system account's name, else
// that of a new server's administrator.
func (c *Call) LikelyUser(spec *engine.Spec) string {
	if user := c.SystemAccount(); user != "" || len(spec.Accounts.Administrators) == 0 {
		return user
	}
	return spec.Accounts.Administrators[0]
}

// SystemAccount is the name of the system account, from the environment.
func (c *Call) SystemAccount() string {
	for _, name := range []string{"USER", "LOGNAME"} {
		if user, ok := c.Lookup(name); ok && user != "" {
			return clean.Line(user, 60)
		}
	}
	return ""
}

// NoteGuard notes that the guard of a profile does not work in another program.
func (c *Call) NoteGuard(p *resolve.Profile) {
	if guard := p.Text(key.Guard); guard != "" && guard != "none" {
		c.Notice("other programs are not bound by the profile's guard (%s)", guard)
	}
}

// Resolve loads a profile with its effective values.
func (c *Call) Resolve(name string, over Overrides) (*resolve.Profile, error) {
	file, err := c.Load()
	if err != nil {
		return nil, err
	}
	p, err := c.FindProfile(file, name)
	if err != nil {
		return nil, err
	}
	if err := over.check(file); err != nil {
		return nil, err
	}
	r := resolve.Resolve(file, p, over, c.Environment())
	return r, over.fits(r)
}
