package cli

import (
	"context"
	"errors"
	"fmt"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile"
	"gentleharbor/core/secret"
)

// Exit codes.
const (
	exitOK          = 0
	exitFailed      = 1 // a test or an expectation failed
	exitUsage       = 2 // the command line is wrong
	exitFile        = 3 // a configuration file is wrong
	exitSecret      = 4 // a secret could not be had
	exitServer      = 5 // the server or the route failed
	exitUnknown     = 6 // compare can't tell
	exitDefect      = 70
	exitInterrupted = 130 // Ctrl-C, as shells number it
)

// exitError is an error with an exit code of its own and lines to try.
type exitError struct {
	code int
	err  error // nil: all has been said
	try  []string
}

func (e *exitError) Error() string {
	if e.err == nil {
		return ""
	}
	return e.err.Error()
}

func (e *exitError) Unwrap() error { return e.err }

// usage is a mistake on the command line. It never repeats a value.
func usage(format string, args ...any) error {
	return &exitError{code: exitUsage, err: fmt.Errorf(format, args...)}
}

func exitCode(err error) (code int, try []string) {
	var exit *exitError
	var file *profile.FileError
	var request *profile.RequestError
	var secretFailure *secret.Failure
	var program interface {
		error
		ExitCode() int
	}
	switch {
	case err == nil:
		return exitOK, nil
	case errors.As(err, &exit):
		return exit.code, exit.try
	case errors.As(err, &program):
		return program.ExitCode(), nil
	case errors.As(err, &file):
		return exitFile, nil
	case errors.As(err, &request):
		return exitUsage, nil
	case errors.As(err, &secretFailure):
		return exitSecret, secretFailure.Found.Try
	case errors.Is(err, context.Canceled):
		return exitInterrupted, nil
	}
	return exitFailed, nil
}

// routeFailed is a way to a server that could not be gone.
func routeFailed(found *finding.Finding) error {
	return &exitError{code: exitServer, err: &secret.Failure{Found: found}, try: found.Try}
}

// unchosen is the error for a command that got no profile.
func unchosen(try []string, format string, args ...any) error {
	return &exitError{code: exitUsage, err: fmt.Errorf(format, args...), try: try}
}
