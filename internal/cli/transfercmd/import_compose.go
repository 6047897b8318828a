package transfercmd

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"gentleharbor/core/address"
	"gentleharbor/core/clean"
	"gentleharbor/core/intake"
	"gentleharbor/core/intake/compose"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/vouch"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/cli/wording"
)

// composeOptions are the flags of import for compose files.
type composeOptions struct {
	envFiles []string
	active   []string
	project  string
}

func (o *composeOptions) flags(fs *base.FlagSet) {
	list := func(to *[]string) func(string) error {
		return func(s string) error {
			*to = append(*to, s)
			return nil
		}
	}
	fs.Func("env-file", "a file of variables for a compose file, in place of .env; may be repeated",
		list(&o.envFiles))
	fs.Func("compose-profile", "also import the services of this compose profile; may be repeated",
		list(&o.active))
	fs.StringVar(&o.project, "compose-project", "",
		"the compose project's name, if it is not the file's")
}

// given reports whether one of the flags was.
func (o *composeOptions) given() bool { return len(o.envFiles)+len(o.active)+len(o.project) > 0 }

// ComposeFiles are the words that name compose files, where the first does.
func ComposeFiles(words []string) []string {
	if len(words) > 0 && slices.Contains([]string{".yaml", ".yml"}, strings.ToLower(filepath.Ext(words[0]))) {
		return words
	}
	return nil
}

// composeRequest makes the request; root is the repository that the files are in, "" for none.
func (c *Call) composeRequest(files []string, o composeOptions) (r compose.Request, root string, err error) {
	if len(files) == 0 {
		folder, err := filepath.Abs(c.Dir)
		if err != nil {
			return r, "", err
		}
		if files = compose.DefaultFiles(folder, c.Lookup); len(files) == 0 {
			return r, "", base.Advise(base.Failure(base.ExitFile,
				errors.New("there is no compose.yaml (or a file of another usual name) here")),
				"name the file: gharbor import compose FILE")
		}
	}
	if slices.Contains(files, "-") {
		return r, "", base.Usage("compose files name others beside them, so they are read from files: gharbor import " +
			"compose FILE")
	}
	r = compose.Request{Schema: c.Keys, Active: o.active, Project: o.project}
	for _, list := range []struct {
		from []string
		to   *[]string
	}{{files, &r.Files}, {o.envFiles, &r.EnvFiles}} {
		for _, path := range list.from {
			if !filepath.IsAbs(path) {
				path = filepath.Join(c.Dir, path)
			}
			if path, err = filepath.Abs(path); err != nil {
				return r, "", err
			}
			*list.to = append(*list.to, path)
		}
	}
	return r, repositoryOf(r.Files[0]), nil
}

// repositoryOf is the root of the repository that a file is in, "" for none.
func repositoryOf(path string) string {
	place, _ := profile.FindProject(filepath.Dir(path))
	if _, err := os.Lstat(filepath.Join(place.Root, ".git")); err != nil {
		return ""
	}
	return place.Root
}

// VouchableCompose makes an item of a compose file.
func (c *Call) VouchableCompose(ctx context.Context, files []string) ([]vouch.Item, error) {
	r, root, err := c.composeRequest(files, composeOptions{})
	if err != nil {
		return nil, err
	}
	if _, err := os.Stat(r.Files[0]); err != nil {
		return nil, &profile.FileError{Path: r.Files[0], What: "cannot be read: " + wording.PlainReason(err)}
	}
	if root == "" {
		return nil, base.Usage("%s is in no repository, so it needs no approval", clean.Line(r.Files[0], 200))
	}
	r.Root = root
	return []vouch.Item{c.composeItem(ctx, r)}, nil
}

// composeItem is the item for the files, the same for all flags.
func (c *Call) composeItem(ctx context.Context, r compose.Request) vouch.Item {
	return vouch.Item{
		Name: compose.Word,
		Path: r.Files[0],
		Uses: func() vouch.Uses { return compose.Uses(ctx, c.Keys, r.Files, r.Root) },
	}
}

// vouchLine is the command that vouches for compose files.
func vouchLine(files []string) string {
	line := "gharbor vouch"
	for _, path := range files {
		line += " " + clean.Shell(path)
	}
	return line
}

// findCompose finds the servers in compose files. path is the first file's where they are in a repository and nobody
// has vouched for them: then it uses no variable of this machine, reads no file outside of the repository, and the
// import must be agreed to.
func (c *Call) findCompose(ctx context.Context, files []string,
	o composeOptions) (found []intake.Connection, path string, err error) {
	result, r, vouched, err := c.readCompose(ctx, files, o)
	if err != nil {
		return nil, "", err
	}
	c.composeNotices(result, r, vouched)
	for _, s := range result.Servers {
		f := s.Connection(c.Keys, "compose file "+r.Files[0]+", service "+s.Service)
		f.Name = c.ComposeName(f.Name, s.Container)
		found = append(found, f)
	}
	if !vouched {
		path = r.Files[0]
	}
	return found, path, nil
}

// ComposeService is a service of the working folder's compose file that a container can be made of; nil and no error
// where the file has none of the names. It refuses a repository's file for which nobody has vouched.
func (c *Call) ComposeService(ctx context.Context, project, service string) (*compose.Server, string, error) {
	folder, err := filepath.Abs(c.Dir)
	if err != nil || len(compose.DefaultFiles(folder, c.Lookup)) == 0 {
		return nil, "", err
	}
	result, r, vouched, err := c.readCompose(ctx, nil, composeOptions{})
	if err != nil || result.Project != project {
		return nil, "", err
	}
	all := append(result.Servers, result.Similar...)
	for i, s := range all {
		if s.Service != service {
			continue
		}
		if !vouched {
			return nil, "", base.Failure(base.ExitFile, fmt.Errorf("a container of the service would use what %s says, and "+
				"nobody has approved that yet", clean.Line(r.Files[0], 200)), vouchLine(r.Files))
		}
		return &all[i], r.Files[0], nil
	}
	return nil, "", nil
}

// readCompose reads compose files, as far as the user has vouched for them.
func (c *Call) readCompose(ctx context.Context, files []string,
	o composeOptions) (result *compose.Result, r compose.Request, vouched bool, err error) {
	r, root, err := c.composeRequest(files, o)
	if err != nil {
		return nil, r, false, err
	}
	c.Environment() // which knows the book of what was vouched for
	vouched = root == ""
	leaves := vouched
	if root != "" {
		r.Root = root
		item := c.composeItem(ctx, r)
		item.Uses = func() vouch.Uses { // read once: what was hashed is what is used
			uses := compose.Uses(ctx, c.Keys, r.Files, root)
			r.Pinned, leaves = uses.Files, uses.UsesOutside()
			return uses
		}
		state, _, err := c.Vouched.StateOf(item)
		if err != nil {
			return nil, r, false, err
		}
		if state == vouch.Lapsed {
			c.Notice("what the compose file uses has changed since you approved it; to see the change: %s",
				vouchLine(r.Files))
		}
		vouched = state == vouch.Vouched
	}
	if vouched {
		if leaves { // the yes was for files outside of the repository too
			r.Root = ""
		}
		r.Machine = make(map[string]string)
		for _, pair := range c.Environ() {
			name, value, _ := strings.Cut(pair, "=")
			r.Machine[name] = value
		}
	}
	result, err = compose.Read(ctx, r)
	var outside *compose.OutsideError
	if errors.As(err, &outside) {
		err = base.Failure(base.ExitFile, err, vouchLine(r.Files))
	}
	return result, r, vouched, err
}

// composeNotices notes which parts of the files were ignored.
func (c *Call) composeNotices(result *compose.Result, r compose.Request, vouched bool) {
	if result.Unknown != "" {
		c.Notice("the file has unknown keys, such as %s; they are ignored", result.Unknown)
	}
	var here, nowhere []string
	for _, name := range result.Missed {
		if _, ok := c.Lookup(name); ok && !vouched {
			here = append(here, name)
		} else if !slices.Contains(result.Spared, name) {
			nowhere = append(nowhere, name)
		}
	}
	if len(here) > 0 {
		c.Notice("the file is in a repository, so these variables of this machine are not used before you approve "+
			"it: %s", clean.Line(strings.Join(here, ", "), 300))
		c.Say("  try: %s", vouchLine(r.Files))
	}
	if len(nowhere) > 0 {
		c.Notice("without a value here: %s", clean.Line(strings.Join(nowhere, ", "), 300))
	}
	var similar []string
	for _, s := range result.Similar {
		similar = append(similar, fmt.Sprintf("%s (%s)", s.Service, s.Declaration.Engine))
	}
	if len(similar) > 0 {
		c.Notice("left alone: %s. Their variables or images look like a server's, but a client's may too. If one is a "+
			"server: gharbor add NAME -engine ENGINE -container %s/SERVICE", clean.Line(strings.Join(similar, ", "), 300),
			result.Project)
	}
	if len(result.LeftOut) > 0 {
		c.Notice("left out (their compose profile is not active): %s. To import them: -compose-profile NAME",
			clean.Line(strings.Join(result.LeftOut, ", "), 300))
	}
}

// ComposeName is the name of a profile for a compose file's service: the service's, with the project's before it
// where that is taken.
func (c *Call) ComposeName(name string, in schema.Container) string {
	file, err := c.Load()
	if err != nil {
		return name
	}
	old := file.Lookup(name)
	if old == nil {
		return name
	}
	if own, ok := address.ContainerOf(resolve.Resolve(file, old, nil, c.Environment())); ok && own == in {
		return name
	}
	return intake.Name(fmt.Sprintf("%.31s", in.Project), fmt.Sprintf("%.31s", in.Service))
}
