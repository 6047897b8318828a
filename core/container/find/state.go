package find

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"gentleharbor/core/clean"
	"gentleharbor/core/container/api"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
)

// shownLines is how many of a log's last lines a finding has.
const shownLines = 5

// state is the container's state in a few words: "running, healthy".
func (v *view) state() string { return State(v.one) }

// State is a container's state in a few words: "running, healthy".
func State(one *api.Container) string {
	text := clean.Line(one.State.Status, 20)
	if h := health(one); h != "" {
		text += ", " + h
	}
	return text
}

// health is what a running container's own check says, "" where it has none.
func health(one *api.Container) string {
	if h := one.State.Health; h != nil && one.State.Running && h.Status != "none" {
		return clean.Line(h.Status, 20)
	}
	return ""
}

// idle is the finding for a container whose server can't answer, nil for one that
// runs.
func (v *view) idle(ctx context.Context) *finding.Finding {
	one := v.one
	switch {
	case one.State.Status == "restarting":
		return v.restarting(ctx)
	case one.State.Paused:
		return finding.New(finding.ContainerStopped, "the container %s is paused",
			one.Name).
			Suggest("gharbor container start %s", v.startName())
	case one.State.Running:
		return nil
	case IsAddressInUse(one.State.Error) && v.isStillInUse(ctx, v.client, one):
		return v.PortTaken(ctx, v.client, one, one.State.Error)
	}
	found := finding.New(finding.ContainerStopped, "the container %s is not running: %s", one.Name, describeEnd(one))
	if one.State.Error != "" {
		found.Saw("the container engine: %s", v.quoteText(one.State.Error))
	}
	readable := v.sawLog(ctx, found)
	found.Suggest("gharbor container start %s", v.startName())
	if readable {
		found.Suggest("%s logs --tail 50 %s", v.client.CLIName(), name(one))
	}
	return found
}

// startName is the name of the container for `container start`: the profile that
// leads to it.
func (v *view) startName() string {
	if v.profile != nil {
		return v.profile.Name()
	}
	return name(v.one)
}

// describeEnd says how a container ended.
func describeEnd(one *api.Container) string {
	code := one.State.ExitCode
	switch {
	case one.State.Status == "created":
		return "it was made, but never started"
	case one.State.OOMKilled:
		return fmt.Sprintf("it ran out of memory (exit code %d)", code)
	case code == 0:
		return "it was stopped, or ended by itself (exit code 0)"
	case code == 137:
		return "it was killed (exit code 137)"
	case code == 143:
		return "it was stopped (exit code 143)"
	}
	return fmt.Sprintf("it ended with exit code %d", code)
}

// sawLog adds the last lines of the log, with what looks like a password cut out, and tells whether it can be read: a
// container may keep none.
func (v *view) sawLog(ctx context.Context, found *finding.Finding) (readable bool) {
	lines, err := v.log(ctx, 50)
	if err != nil {
		found.Saw("its log could not be read: %s", clean.Line(err.Error(), 200))
		return false
	}
	if len(lines) == 0 {
		found.Saw("its log is empty")
	}
	for _, line := range lines[max(0, len(lines)-shownLines):] {
		found.Saw("its log: %s", clean.Quote(clean.Line(line, 200)))
	}
	return true
}

// log reads the container's last lines. Lines before those that are shown are read
// too: one may announce a password that stands on the next.
func (v *view) log(ctx context.Context, lines int) ([]string, error) {
	text, err := v.client.Logs(ctx, v.one, lines)
	if err != nil {
		return nil, err
	}
	var full []string
	for _, line := range clean.CutSecrets(text, declaredSecrets(v.one)...) {
		if strings.TrimSpace(line) != "" {
			full = append(full, line)
		}
	}
	return full, nil
}

// declaredSecrets are the secrets that a container declares, to be cut out of what is shown of it. A short one that is
// also the server's name stands in every line of its log: to cut it out would only tell that it is the password.
func declaredSecrets(one *api.Container) (texts []string) {
	const short = 6
	words := strings.FieldsFunc(one.Config.Image, notLetter)
	for variable := range one.Config.Env {
		words = append(words, strings.FieldsFunc(strings.ToLower(variable), notLetter)...)
	}
	for variable, value := range one.Config.Env {
		text := value.Disclose()
		if secretLooking(variable) && (len(text) >= short || !slices.Contains(words, strings.ToLower(text))) {
			texts = append(texts, text)
		}
	}
	return texts
}

func notLetter(r rune) bool { return r < 'a' || r > 'z' }

// quoteText returns foreign text about the container, without what looks like a password.
func (v *view) quoteText(text string) string { return quoteOf(v.one, text) }

func quoteOf(one *api.Container, text string) string {
	return clean.Quote(strings.Join(clean.CutSecrets(strings.Split(text, "\n"), declaredSecrets(one)...), " "))
}

// secretLooking reports whether a variable's name says that its value is a secret.
func secretLooking(variable string) bool {
	upper := strings.ToUpper(variable)
	for _, word := range []string{"PASS", "PWD", "SECRET", "TOKEN", "KEY", "CREDENTIAL"} {
		if strings.Contains(upper, word) {
			return true
		}
	}
	return false
}

func (v *view) restarting(ctx context.Context) *finding.Finding {
	times := "again and again"
	if n := v.one.RestartCount; n == 1 {
		times = "once"
	} else if n > 1 {
		times = fmt.Sprintf("%d times", n)
	}
	found := finding.New(finding.ContainerRestarting,
		"the container %s keeps restarting: %s so far, last exit code %d",
		v.one.Name, times,
		v.one.State.ExitCode)
	if v.sawLog(ctx, found) {
		found.Suggest("%s logs --tail 50 %s", v.client.CLIName(), name(v.one))
	}
	return found.Suggest("gharbor container stop %s   # until its cause is fixed", v.startName())
}

// unhealthy warns where the container's own check says that it is not well. The test
// goes on: the check may be wrong, and the test finds out.
func (v *view) unhealthy() *finding.Finding {
	h := v.one.State.Health
	if h == nil || h.Status != "unhealthy" {
		return nil
	}
	found := finding.New(finding.ContainerUnhealthy, "the container's health check fails")
	if n := len(h.Log); n > 0 {
		last := h.Log[n-1]
		found.Saw("its last run ended with code %d: %s", last.ExitCode, v.quoteText(last.Output))
	}
	return found.Suggest("%s inspect --format '{{json .State.Health}}' %s", v.client.CLIName(), name(v.one))
}

// SecretsFolder is where containers find secrets that are handed over as files.
const SecretsFolder = "/run/secrets"

// noVolume warns where the server's data are in the container itself.
func (v *view) noVolume() *finding.Finding {
	spec := v.profile.Engine()
	if spec == nil || spec.Image == nil || len(spec.Image.Folders) == 0 {
		return nil
	}
	folders := spec.Image.Folders
	if moved := v.one.Config.Env[spec.Image.Moves].Disclose(); spec.Image.Moves != "" && path.IsAbs(moved) {
		folders = []string{moved}
	}
	found := finding.New(finding.ContainerNoVolume,
		"the data are inside the container and are lost when it is removed").
		Saw("nothing is mounted at %s", clean.Line(folders[0], 200))
	if slices.ContainsFunc(v.one.Mounts,
		func(m api.Mount) bool { return m.Type == "volume" && !anonymous(m) && m.Destination != SecretsFolder }) {
		return nil // a volume somebody named, elsewhere: the data may well be there
	}
	for _, folder := range folders {
		m, ok := mountAt(v.one, folder)
		switch {
		case !ok:
			continue
		case !anonymous(m) || composeService(v.one.Config.Labels).Compose(): // which compose hands on
			return nil
		}
		found = finding.New(finding.ContainerNoVolume,
			"the data are in a volume without a name: a container that is made again starts without them").
			Saw("the volume at %s is %s", clean.Line(m.Destination, 200), clean.Line(m.Name, 12))
	}
	return found.Advise("copy the data out, then make the container again with -v %s-data:%s added to the options "+
		"of %s run", name(v.one), clean.Shell(clean.Line(folders[0], 200)), v.client.CLIName())
}

// mountAt is the volume, or the folder of the host, that a container's folder is in.
func mountAt(one *api.Container, folder string) (api.Mount, bool) {
	for _, m := range one.Mounts {
		if m.Type != "tmpfs" &&
			(m.Destination == folder || strings.HasPrefix(folder, strings.TrimSuffix(m.Destination, "/")+"/")) {
			return m, true
		}
	}
	return api.Mount{}, false
}

// anonymous reports whether an engine made a volume by itself, for an image that declares
// one: its name is 64 hexadecimal digits then.
func anonymous(m api.Mount) bool {
	return m.Type == "volume" && len(m.Name) == 64 && strings.Trim(m.Name, "0123456789abcdef") == ""
}

// answers are what the connection came to, in a few words, by the finding for it.
var answers = map[finding.Code]string{
	finding.ReachRefused: "refused",
	finding.ReachTimeout: "no answer in time",
	finding.SpeakSilent:  "the container engine accepts, but no server answers",
	finding.SpeakClosed:  "the container engine accepts, but no server answers",
}

// explain says why the server in a running container does not answer; found is what the
// connection says.
func (v *view) explain(ctx context.Context, found *finding.Finding) *finding.Finding {
	again, err := v.client.Inspect(ctx, v.one.ID)
	if err != nil {
		return found
	}
	again.NetworkSettings, again.HostConfig = v.one.NetworkSettings, v.one.HostConfig
	v.one = again
	started, err := time.Parse(time.RFC3339Nano, again.State.StartedAt)
	lately := err == nil && time.Since(started) < time.Minute
	better := v.idle(ctx)
	if better == nil && lately && again.RestartCount > 0 {
		better = v.restarting(ctx)
	}
	var lines []string
	if better == nil {
		lines, _ = v.log(ctx, 400)
		better = v.starting(lines)
	}
	if better != nil {
		return better.Saw("at its address: %s (%s)", answers[found.Code], found.Code)
	}
	if found.Code == finding.SpeakClosed || found.Code == finding.SpeakSilent {
		found.Saw("at a published port the container engine accepts, even if no server listens in the container")
	}
	if lately {
		found.Saw("the container was started %s ago", time.Since(started).Round(time.Second))
	}
	if ready := lastReady(v.serverLog(), lines); ready != "" {
		found.Saw("its log: %s", clean.Quote(clean.Line(ready, 200)))
	}
	return found.Suggest("%s logs --tail 50 %s", v.client.CLIName(), name(v.one))
}

// starting is the finding for a server that starts, by its container's health check or
// by the log; nil where neither says so.
func (v *view) starting(lines []string) *finding.Finding {
	starting, seen := isStarting(v.serverLog(), lines)
	h := v.one.State.Health
	checked := h != nil && h.Status == "starting"
	if !starting && !checked {
		return nil
	}
	found := finding.New(finding.ContainerStarting, "the server in the container %s is still starting", v.one.Name)
	if checked {
		found.Saw("its health check says: starting")
	}
	if seen != "" {
		found.Saw("its log: %s", clean.Quote(clean.Line(seen, 200)))
	}
	return found.Suggest("gharbor wait %s", v.profile.Name())
}

// lastReady is the last line by which a log says that the server is ready, with the line
// behind it where that says at which port.
func lastReady(log engine.Log, lines []string) string {
	for i := len(lines) - 1; i >= 0; i-- {
		if hasAny(lines[i], log.Ready) {
			if i+1 < len(lines) && strings.Contains(lines[i+1], "port: ") {
				return lines[i+1]
			}
			return lines[i]
		}
	}
	return ""
}

// serverLog are the lines by which the log of the profile's server says how far it is.
func (v *view) serverLog() engine.Log {
	if spec := v.profile.Engine(); spec != nil && spec.Image != nil {
		return spec.Image.Log
	}
	return engine.Log{}
}

func hasAny(line string, words []string) bool {
	return slices.ContainsFunc(words, func(word string) bool { return strings.Contains(line, word) })
}

// isStarting reports whether a server's log says that it starts and is not ready yet,
// and the last line that says so. Images start a server for their own preparations
// first, which is not the one that is waited for: the log announces it before it
// starts, or it says port 0 in the line of being ready or the one behind it.
func isStarting(log engine.Log, lines []string) (starting bool, seen string) {
	preparing := false // the image's own server is the one that speaks
	for i, line := range lines {
		next := "" // where some servers say the port; not written yet where it is the last
		if i+1 < len(lines) {
			next = lines[i+1]
		}
		ready := hasAny(line, log.Ready)
		own := hasAny(line, log.Before) || ready && hasAny(next, log.Before)
		switch {
		case log.Skip != "" && strings.Contains(line, log.Skip):
		case log.Announced && own:
			preparing, starting, seen = true, true, line
		case strings.Contains(line, "init process complete"), strings.Contains(line, "init process done"):
			preparing, starting, seen = false, true, line
		case ready && (preparing || own || log.PortBehind && next == "" && !strings.Contains(line, "port: ")):
			starting, seen = true, line
		case ready:
			starting, seen = false, ""
		case hasAny(line, log.Begins):
			starting, seen = true, line
		}
	}
	return starting, seen
}
