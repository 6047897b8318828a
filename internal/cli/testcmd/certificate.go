package testcmd

import (
	"bytes"
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"gentleharbor/core/check"
	"gentleharbor/core/clean"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/tlsrule"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/render"
)

// certificateOptions are the flags of certificate.
type certificateOptions struct {
	save        bool
	fingerprint string
	timeout     time.Duration
	over        base.Overrides
	form        base.Format
}

func Certificate() *base.Command {
	var o certificateOptions
	return &base.Command{
		Name: "certificate", Args: "PROFILE", Summary: "show a server's certificates, and trust one",
		Long: `Connects, asks for TLS and shows the certificates, without a login. -save makes the
last certificate of the chain the profile's tls-ca, after you have compared its
fingerprint with one that you got another way. Without a terminal give -fingerprint.`,
		Examples: []string{"gharbor certificate tides", "gharbor certificate tides -save"},
		MinArgs:  1, MaxArgs: 1,
		Flags: func(fs *base.FlagSet) {
			fs.BoolVar(&o.save, "save", false, "trust the last certificate of the chain, after comparing its "+
				"fingerprint")
			fs.StringVar(&o.fingerprint, "fingerprint", "", "the fingerprint that it must have: SHA256:…")
			fs.DurationVar(&o.timeout, "timeout", check.DefaultTimeout, "time limit")
			o.over.Flag(fs)
			o.form.Flag(fs)
		},
		Run: run(func(ctx context.Context, c *Call) error { return c.certificate(ctx, o) }),
	}
}

func (c *Call) certificate(ctx context.Context, o certificateOptions) error {
	name := c.Args[0]
	switch {
	case o.fingerprint != "" && !o.save:
		return base.Usage("-fingerprint goes with -save")
	case o.save && o.fingerprint == "" && !c.Interactive():
		return base.Failure(base.ExitUsage,
			errors.New("there is no terminal to compare the fingerprint on; give it with -fingerprint"),
			"gharbor certificate "+name)
	case o.timeout <= 0:
		return base.Usage("-timeout: expected a time above zero, such as 10s")
	}
	p, err := c.Resolve(name, o.over)
	if err != nil {
		return err
	}
	required, _ := c.KeyValue("tls=required")
	asking, err := c.Resolve(name, append(o.over, required))
	if err != nil {
		return err
	}
	runner, err := c.Runner(o.timeout)
	if err != nil {
		return err
	}
	report, facts := runner.Certificates(ctx, asking)
	c.FollowReports(base.FollowUp{Over: o.over}, report)
	if report.Interrupted {
		return base.Failure(base.ExitInterrupted, nil)
	}
	if facts == nil {
		return notPresentedError(report, name)
	}
	if o.form.JSON() {
		err = c.certificateJSON(name, facts)
	} else {
		err = c.certificateText(name, facts)
	}
	if err != nil || !o.save {
		return err
	}
	return c.saveCertificate(ctx, p, facts.Chain, o.fingerprint)
}

// notPresentedError is the command's error for the stage that failed.
func notPresentedError(report *check.Report, name string) error {
	for _, s := range report.Stages {
		if s.Outcome == finding.Fail {
			if s.Finding.Code == finding.TLSNotOffered { // its cause speaks of a rule that only this command has
				return base.Failure(base.ExitServer,
					errors.New("no certificate: the server does not offer TLS here (tls.not-offered). A Unix "+
						"socket never does"),
					"gharbor test "+name)
			}
			s.Finding.Suggest("gharbor test %s", name)
			return base.FindingError(base.ExitServer, fmt.Errorf("%s (%s)", s.Finding.Cause, s.Finding.Code), s.Finding)
		}
	}
	return base.Failure(base.ExitServer, errors.New("the server could not be asked"), "gharbor test "+name)
}

func chainOf(facts *tlsrule.Facts) []*tlsrule.Certificate {
	var chain []*tlsrule.Certificate
	for _, cert := range facts.Chain {
		chain = append(chain, tlsrule.Describe(cert, time.Now()))
	}
	return chain
}

func (c *Call) certificateJSON(name string, facts *tlsrule.Facts) error {
	return render.JSON(c.Stdout, map[string]any{"format": 1, "profile": name, "tls": facts.Version, "cipher": facts.Cipher,
		"verified": facts.Verified, "faults": facts.Faults, "chain": chainOf(facts)})
}

func (c *Call) certificateText(name string, facts *tlsrule.Facts) error {
	var b bytes.Buffer
	fmt.Fprintf(&b, "%s presents %d %s over %s\n", name, len(facts.Chain),
		map[bool]string{true: "certificate", false: "certificates"}[len(facts.Chain) == 1], facts.Version)
	for i, d := range chainOf(facts) {
		fmt.Fprintf(&b, "\n  %d  subject      %s\n", i+1, d.Subject)
		if len(d.Names) > 0 {
			fmt.Fprintf(&b, "     names        %s\n", strings.Join(d.Names, ", "))
		}
		issuer := d.Issuer
		if issuer == d.Subject {
			issuer = "itself"
		}
		fmt.Fprintf(&b, "     issuer       %s\n", issuer)
		fmt.Fprintf(&b, "     valid        %s to %s, %d days left\n", d.NotBefore.Format(time.DateOnly),
			d.NotAfter.Format(time.DateOnly), d.DaysLeft)
		fmt.Fprintf(&b, "     fingerprint  %s\n", d.Fingerprint)
	}
	b.WriteByte('\n')
	if len(facts.Faults) == 0 {
		b.WriteString("verified: a trusted authority signed it, and the name is right\n")
	} else {
		b.WriteString("not verified:\n")
	}
	for _, fault := range facts.Faults {
		fmt.Fprintf(&b, "  %-18s %s\n", fault.Code, fault.Cause)
	}
	_, err := c.Stdout.Write(b.Bytes())
	return err
}

// saveCertificate keeps the topmost certificate after a person has compared its fingerprint.
func (c *Call) saveCertificate(ctx context.Context, p *resolve.Profile, chain []*x509.Certificate,
	fingerprint string) error {
	name := p.Profile.Name
	if p.Profile.InProject() {
		return base.Usage(
			"the tls-ca of a project's profile is a file of the repository: write the certificate there, then "+
				"gharbor set %s tls-ca=PATH", name)
	}
	top := chain[len(chain)-1]
	have := tlsrule.Fingerprint(top)
	if fingerprint != "" {
		if !sameFingerprint(fingerprint, have) {
			return base.Failure(base.ExitFailed,
				errors.New("the fingerprint is different, so nothing was saved: this is another certificate, or "+
					"another server"),
				"gharbor certificate "+name)
		}
	} else {
		c.Say("\nCompare the fingerprint of certificate %d with one from the server's administrator, or read on "+
			"the server itself:", len(chain))
		c.Say("  %s", have)
		yes, err := c.Confirm(ctx, "is it the same?", false)
		if err != nil {
			return err
		}
		if !yes {
			c.Say("nothing was saved")
			return nil
		}
	}
	h, err := c.Home()
	if err != nil {
		return err
	}
	folder := filepath.Join(h.Dir, "certificates")
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return &profile.FileError{Path: folder, What: "cannot be made: " + clean.Line(err.Error(), 200)}
	}
	path := filepath.Join(folder, name+".pem")
	before, readErr := os.ReadFile(path)
	if err := profile.WriteFile(path, tlsrule.PEM(top)); err != nil {
		return err
	}
	keep, err := c.KeyValue("tls-ca=certificates/" + name + ".pem")
	if err != nil {
		return err
	}
	if err := c.Update(ctx, base.Target{}, "saved as tls-ca", name,
		func(f *profile.File) (*profile.Edit, error) { return f.Set(name, []schema.Override{keep}) }); err != nil {
		if readErr == nil { // nothing is half kept
			profile.WriteFile(path, before)
		} else {
			os.Remove(path)
		}
		return err
	}
	if !tlsrule.SelfSigned(top) {
		found := tlsrule.PartialChain(name, path)
		c.Notice("%s", found.Cause)
		c.Say("  do: %s", found.Do[0])
	}
	if p.Text(key.TLS) != "verified" {
		c.Say("  try: gharbor set %s tls=verified   # with tls = %q nothing is verified yet", name, p.Text(key.TLS))
		return nil
	}
	c.Say("  try: gharbor test %s", name)
	return nil
}

// sameFingerprint compares two fingerprints without regard to letter case, colons and the prefix.
func sameFingerprint(a, b string) bool {
	plain := func(s string) string {
		s = strings.ToUpper(strings.TrimSpace(s))
		s = strings.TrimPrefix(strings.TrimPrefix(s, "SHA256"), ":")
		return strings.ReplaceAll(s, ":", "")
	}
	return plain(a) == plain(b)
}
