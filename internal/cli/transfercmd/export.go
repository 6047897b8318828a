package transfercmd

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"gentleharbor/core/atomicfile"
	"gentleharbor/core/clean"
	"gentleharbor/core/container/making"
	"gentleharbor/core/engine"
	"gentleharbor/core/handover"
	"gentleharbor/core/intake"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/secret"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/cli/secretcmd"
	"gentleharbor/internal/cli/tunnelcmd"
	"gentleharbor/internal/cli/wording"
	"gentleharbor/internal/render"
)

// exportForms are the forms that a profile can be written in.
func exportForms(engines engine.Set) []string {
	forms := []string{"url", "env", "dotenv"}
	for _, spec := range engines.All() {
		for _, form := range spec.Client.Forms {
			if !slices.Contains(forms, form.Word) {
				forms = append(forms, form.Word)
			}
		}
	}
	return append(forms, "compose", "json")
}

// exportOptions are the flags of export.
type exportOptions struct {
	as         string
	withSecret bool
	out        string
	image      string
}

func Export() *base.Command {
	var o exportOptions
	return &base.Command{
		Name: "export", Machine: true, Args: "PROFILE", Summary: "print a profile as a URL, variables, or a " +
			"password-file line",
		Long: `Without the password, unless you add -with-secret: that asks first, and writes only to a
terminal or to a file that nobody else can read. A compose file names a file for each
password.`,
		Examples: []string{"gharbor export sightings -as url",
			"gharbor export sightings -as dotenv -with-secret -out sightings.env",
			"gharbor export sightings -as compose -image {{image}}:16"},
		MinArgs: 1, MaxArgs: 1,
		Flags: func(fs *base.FlagSet) {
			one := strings.Join(exportForms(fs.Keys.Engines()), ", ")
			fs.Choose("as", exportForms(fs.Keys.Engines())...)
			fs.Func("as", "one of "+one, func(s string) error {
				if !slices.Contains(exportForms(fs.Keys.Engines()), s) {
					return errors.New("expected one of " + one)
				}
				o.as = s
				return nil
			})
			fs.BoolVar(&o.withSecret, "with-secret", false, "with the password, after asking")
			fs.StringVar(&o.out, "out", "", "write to this new file (0600)")
			ImageFlag(fs, &o.image, "the image for a compose file (default: the container's, else the official one)")
		},
		Run: run(func(ctx context.Context, c *Call) error { return c.export(ctx, o) }),
	}
}

func (c *Call) export(ctx context.Context, o exportOptions) error {
	if o.as == "" {
		return base.Failure(base.ExitUsage,
			errors.New("-as is missing: "+strings.Join(exportForms(c.Engines), ", ")),
			"gharbor export "+clean.Line(c.Args[0], 64)+" -as url")
	}
	switch {
	case o.withSecret && (o.as == "json" || o.as == "compose"):
		return base.Usage("-with-secret: %s has no place for a password; take %s", o.as,
			clean.Alternatives(slices.DeleteFunc(exportForms(c.Engines),
				func(form string) bool { return form == "json" || form == "compose" })))
	case o.image != "" && o.as != "compose":
		return base.Usage("-image goes with -as compose")
	}
	p, err := c.Resolve(c.Args[0], nil)
	if err != nil {
		return err
	}
	if found := p.Problem(); found != nil {
		return &secret.Failure{Found: found}
	}
	if o.as == "compose" {
		return c.exportCompose(ctx, p, o)
	}
	var value secret.Value
	if o.withSecret {
		if err := c.checkSpelledSecret(ctx, p, o.out); err != nil {
			return err
		}
		if value, err = c.SecretOf(ctx, p); err != nil {
			return err
		}
		if !value.Present() {
			c.Notice("the profile has no password, so there is none in the output")
		}
	}
	conn, err := c.HandOver(ctx, p, value)
	if err != nil {
		return err
	}
	if conn, err = c.throughTunnel(ctx, p, conn); err != nil {
		return err
	}
	text, err := c.exportText(ctx, conn, o)
	if err != nil {
		return err
	}
	return c.writeOut(o.out, text)
}

// writeOut writes to standard output, or to a new file.
func (c *Call) writeOut(out string, text []byte) error {
	if out == "" {
		_, err := c.Stdout.Write(text)
		return err
	}
	return c.writeNew(out, text)
}

// throughTunnel returns the local address of the profile's open tunnel, where the profile has hops. Without a tunnel
// it notes that other programs can't reach the address.
func (c *Call) throughTunnel(ctx context.Context, p *resolve.Profile,
	conn handover.Connection) (handover.Connection, error) {
	if len(p.Hops()) == 0 {
		return conn, nil
	}
	registry, err := tunnelcmd.NewCall(c.Call).Registry()
	if err != nil {
		return conn, err
	}
	if s, err := registry.Find(ctx, p.Called); err == nil {
		c.Notice("the address is that of the open tunnel, %s", s.Local)
		return conn.At(tunnelcmd.LocalOfText(s.Local, conn.Spec)), nil
	}
	c.Notice("the address is behind the jump hosts and can't be reached directly; for a local one: gharbor tunnel "+
		"open %s", p.Called)
	return conn, nil
}

// checkSpelledSecret asks before a password is written, and checks where it would be written.
func (c *Call) checkSpelledSecret(ctx context.Context, p *resolve.Profile, out string) error {
	if !c.Interactive() {
		return secretcmd.NoTerminal("writing the password",
			"gharbor with "+p.Called+" -- PROGRAM   # hands it to a program without writing it out")
	}
	where := "on this terminal"
	if out != "" {
		where = "to " + out
	} else if !render.IsTerminal(c.Stdout) {
		info, err := render.FileOf(c.Stdout).Stat() // of no file it is an error
		switch {
		case err != nil || !info.Mode().IsRegular():
			return base.Usage("the password would go into a pipe; to write it to a file that only you can read: " +
				"-out FILE")
		case info.Mode().Perm()&0o077 != 0:
			return base.Usage(
				"others can read the output file (%04o); to write one that only you can read: -out FILE",
				info.Mode().Perm())
		}
		where = "to the file of standard output"
	}
	yes, err := c.Confirm(ctx, fmt.Sprintf("write the password of %s, %s?", p.Called, where), false)
	if err == nil && !yes {
		err = &base.ExitError{Code: base.ExitUsage, Err: errors.New("nothing was written")}
	}
	return err
}

func (c *Call) writeNew(path string, text []byte) error {
	whole, err := filepath.Abs(path)
	if err != nil {
		return err
	}
	if _, err := os.Lstat(whole); err == nil {
		return base.Usage("-out: %s exists already", whole)
	}
	if err := (atomicfile.Writer{}).Write(whole, text); err != nil {
		return &profile.FileError{Path: whole, What: "cannot be written: " + wording.PlainReason(err)}
	}
	c.Say("written: %s", whole)
	return nil
}

// exportText is the text of a form.
func (c *Call) exportText(ctx context.Context, conn handover.Connection, o exportOptions) ([]byte, error) {
	var b bytes.Buffer
	switch o.as {
	case "url":
		fmt.Fprintln(&b, conn.URL())
	case "env":
		for _, v := range conn.ExportVariables() {
			fmt.Fprintf(&b, "export %s=%s\n", v.Name, clean.Shell(v.Value))
		}
	case "dotenv":
		for _, v := range conn.ExportVariables() {
			fmt.Fprintln(&b, intake.DotenvLine(v.Name, v.Value))
		}
	case "json":
		if err := render.JSON(&b, conn.Document()); err != nil {
			return nil, err
		}
	default:
		lines, err := c.formLines(conn, o.as)
		if err != nil {
			return nil, err
		}
		fmt.Fprintln(&b, strings.Join(lines, "\n"))
	}
	return b.Bytes(), c.tellLost(ctx, conn, o.as)
}

// tellLost notes what a form does not keep of a connection: it reads the form back as import does, and compares.
func (c *Call) tellLost(ctx context.Context, conn handover.Connection, form string) error {
	conn.Password = secret.Value{}
	var found []intake.Connection
	var err error
	what := "the variables leave"
	switch form {
	case "url":
		what = "the URL leaves"
		found, err = c.intake().URL(conn.URL())
	case "env", "dotenv":
		var all []intake.Variable
		for _, v := range conn.ExportVariables() {
			all = append(all, intake.Variable{Name: v.Name, Value: v.Value})
		}
		found, err = c.intake().Variables(all, form)
	case "service":
		what = "the section leaves"
		var lines []string
		if lines, err = c.formLines(conn, form); err == nil {
			found, err = c.intake().Lines(conn.Spec, lines)
		}
	case "passfile-line":
		c.Notice("the line is for every database of the server, and says nothing of TLS")
		return nil
	default: // JSON has it all
		return nil
	}
	if err != nil || len(found) == 0 {
		return fmt.Errorf("what was written can't be read back: %w", err)
	}
	read, err := c.HandOver(ctx, resolve.Values(c.Keys, conn.Profile, found[0].Sets, c.Environment()), secret.Value{})
	if err != nil {
		return err
	}
	lost := conn.MissingFrom(&read)
	off := conn
	off.TLS = "off"
	if rule := "tls=" + conn.TLS; !slices.Contains(lost, rule) && readBack(conn, form) == readBack(off, form) &&
		(conn.TLS == "required" || conn.TLS == "verified") && conn.First().Socket == "" {
		lost = append(lost, rule) // it is read back as a default of ours; other programs have other defaults
	}
	if len(lost) > 0 {
		c.Notice("%s out %s", what, strings.Join(lost, ", "))
	}
	return nil
}

// readBack is the part of a connection that programs read from a form.
func readBack(c handover.Connection, form string) string {
	if form == "url" {
		return c.URL()
	}
	return fmt.Sprint(c.ExportVariables())
}

// formLines are the lines of a form that an engine's own clients read.
func (c *Call) formLines(conn handover.Connection, word string) ([]string, error) {
	form, _, err := conn.Form(c.Engines, word)
	if err != nil {
		return nil, base.Usage("%w", err)
	}
	if form.NeedsPassword && !conn.Password.Present() {
		c.Notice("PASSWORD stands for the password; to write it: -with-secret")
		conn.Password = secret.NewValue("PASSWORD")
	}
	lines, err := form.Lines(&conn.Connection)
	if err != nil {
		return nil, base.Usage("%w", err)
	}
	if form.PasswordLine != nil && conn.Password.Present() {
		lines = append(lines, form.PasswordLine(conn.Password.Disclose()))
	}
	return lines, nil
}

// ImageFlag registers -image.
func ImageFlag(fs *base.FlagSet, image *string, help string) {
	fs.Func("image", help, func(s string) error {
		*image = s
		if !making.ValidImage(s) {
			return errors.New("expected an image's name, such as NAME:TAG")
		}
		return nil
	})
}
