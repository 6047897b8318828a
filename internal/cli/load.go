package cli

import (
	"os"
	"path/filepath"
	"runtime/debug"

	"gentleharbor/core/alias"
	"gentleharbor/core/clean"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/vouch"
)

// home opens the tool's own folder.
func (c *call) home() (profile.Home, error) {
	h, err := profile.FindHome(c.keys, c.Lookup)
	if err != nil {
		return h, &exitError{code: exitFile, err: err}
	}
	h.Notice = func(text string) { c.Notice("%s", text) }
	c.log.Debug("home", "folder", h.Dir)
	return h, nil
}

// large is the size of a profile file, in bytes, from which collecting garbage
// would take a part of the time that is felt: about 1,500 profiles.
const large = 256 << 10

// load reads the profiles, once.
func (c *call) load() (*profile.File, error) {
	if c.loaded == nil {
		file, err := c.read()
		if err != nil {
			return nil, err
		}
		c.attach(file)
		if err := c.loadAliases(file); err != nil {
			return nil, err
		}
		c.loaded = file
	}
	return c.loaded, nil
}

// loadAliases reads the files of aliases: the user's, and the project's behind them.
func (c *call) loadAliases(file *profile.File) error {
	h, err := c.home()
	if err != nil {
		return err
	}
	home := c.environment().Home
	judge := func(path string) *finding.Finding { return c.vouched.JudgeFile(c.keys, path, home) }
	c.book, err = alias.Load(h, c.Lookup, home, judge, func(err error) { c.Notice("%s", clean.Line(err.Error(), 0)) })
	if err != nil {
		return err
	}
	c.book.Project = file.Attached()
	c.book.Vouch = func(a *profile.Alias) (map[string][]byte, *finding.Finding) {
		return c.vouched.JudgeAlias(a, c.book.Home)
	}
	for _, f := range c.book.Files {
		c.log.Debug("aliases", "file", f.Path, "count", len(f.Aliases))
	}
	return nil
}

// attach looks for a project's file. One that is wrong, or somebody else's, is
// said and passed over: it can't keep the user from their own profiles.
func (c *call) attach(file *profile.File) {
	place, ok := c.projectPlace()
	if !ok {
		return
	}
	project, err := profile.LoadProject(c.keys, place)
	if err != nil {
		c.Notice("%s", clean.Line(err.Error(), 0))
		c.broken = err
		return
	}
	c.log.Debug("project", "file", project.Path, "count", len(project.Profiles))
	file.Attach(project)
}

// projectPlace is where the project's file is, or would be made.
func (c *call) projectPlace() (place profile.Place, ok bool) {
	dir, err := c.workDir()
	if err != nil {
		return place, false
	}
	return profile.FindProject(dir)
}

// workDir is the working folder.
func (c *call) workDir() (string, error) {
	if c.Dir != "" {
		return c.Dir, nil
	}
	return os.Getwd()
}

// missing is the error for a profile that is not there. Where the project's file
// is wrong, the profile may stand in it.
func (c *call) missing(file *profile.File, name string) error {
	if c.broken != nil {
		return c.broken
	}
	return file.Missing(name)
}

// lookup finds a profile by its name, and says so where the project has one of
// the same name.
func (c *call) lookup(file *profile.File, name string) (*profile.Profile, error) {
	p := file.Lookup(name)
	if p == nil {
		return nil, c.missing(file, name)
	}
	if project := file.Attached(); project != nil && !p.InProject() && project.Lookup(name) != nil {
		c.Notice("the project's file has a profile %s too; yours is meant, and %s%s is the other", name,
			schema.ProjectPrefix, name)
	}
	return p, nil
}

func (c *call) read() (*profile.File, error) {
	h, err := c.home()
	if err != nil {
		return nil, err
	}
	if info, err := os.Stat(h.ProfilesPath()); err == nil && info.Size() > large {
		debug.SetGCPercent(400) // a run this short ends before a collection is worth its time
	}
	file, err := h.Load()
	if err == nil {
		c.log.Debug("profiles", "file", file.Path, "count", len(file.Profiles))
	}
	return file, err
}

// environment is what resolving a profile takes from the machine.
func (c *call) environment() resolve.Environment {
	home := profile.UserHome(c.Lookup)
	if c.vouched.Path == "" {
		if h, err := profile.FindHome(c.keys, c.Lookup); err == nil {
			c.vouched = vouch.NewBook(filepath.Join(h.Dir, "vouched.toml"))
		}
	}
	env := resolve.Environment{Lookup: c.Lookup, Home: home, Vouch: c.vouched.Judge}
	if c.book != nil {
		env.Aliases = c.book
	}
	return env
}

// account is the name of the system account, as its environment says.
func (c *call) account() string {
	for _, name := range []string{"USER", "LOGNAME"} {
		if user, ok := c.Lookup(name); ok && user != "" {
			return clean.Line(user, 60)
		}
	}
	return ""
}

// resolve loads a profile with its effective values.
func (c *call) resolve(name string, over overrides) (*resolve.Profile, error) {
	file, err := c.load()
	if err != nil {
		return nil, err
	}
	p, err := c.lookup(file, name)
	if err != nil {
		return nil, err
	}
	if err := over.check(file); err != nil {
		return nil, err
	}
	r := resolve.Of(file, p, over, c.environment())
	return r, over.fits(r)
}
