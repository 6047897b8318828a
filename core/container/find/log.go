package find

import (
	"slices"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/container/api"
	"gentleharbor/core/engine"
)

// LogLine is a line of a container's log, without what looks like a password.
type LogLine struct {
	Text string
	// Mark is the line's meaning for the server: "starts", "ready", "fails", or "".
	Mark string
}

// LogReader reads a log line by line. A line may announce a password that is on a later one, so it keeps the last
// keptLines lines.
type LogReader struct {
	log   engine.Log
	known []string
	last  []string
}

// keptLines is the largest distance of a password from the line that announces it.
const keptLines = 8

// NewLogReader reads the log of a container; spec is the engine of its server, nil where that is not known.
func NewLogReader(spec *engine.Spec, one *api.Container) *LogReader {
	r := &LogReader{known: declaredSecrets(one)}
	if spec != nil && spec.Image != nil {
		r.log = spec.Image.Log
	}
	return r
}

// Read cleans and marks the next line.
func (r *LogReader) Read(line string) LogLine {
	r.last = append(r.last, line)
	if len(r.last) > keptLines {
		r.last = r.last[1:]
	}
	cut := clean.CutSecrets(r.last, r.known...)
	text := cut[len(cut)-1]
	return LogLine{Text: clean.Visible(text), Mark: r.mark(text)}
}

// mark is what a line says of the server.
func (r *LogReader) mark(line string) string {
	has := func(signs []string) bool {
		return slices.ContainsFunc(signs, func(s string) bool { return strings.Contains(line, s) })
	}
	skipped := r.log.Skip != "" && strings.Contains(line, r.log.Skip)
	switch {
	case has(r.log.Fails):
		return "fails"
	case has(r.log.Ready) && !skipped:
		return "ready"
	case has(r.log.Begins):
		return "starts"
	}
	return ""
}
