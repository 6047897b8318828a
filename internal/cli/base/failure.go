package base

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
	ExitOK          = 0
	ExitFailed      = 1 // a test or an expectation failed
	ExitUsage       = 2 // the command line is wrong
	ExitFile        = 3 // a configuration file is wrong
	ExitSecret      = 4 // a secret could not be had
	ExitServer      = 5 // the server or the route failed
	ExitUnknown     = 6 // compare can't tell
	exitDefect      = 70
	ExitInterrupted = 130 // Ctrl-C, as shells number it
)

// ExitCodes are the exit codes, each with its meaning.
func ExitCodes() []struct {
	Code    int
	Meaning string
} {
	return []struct {
		Code    int
		Meaning string
	}{
		{ExitOK, "all is well; a warning too, but with -strict"},
		{ExitFailed, "a test, an expectation or a comparison failed, or a problem of severity high was found"},
		{ExitUsage, "the command line is wrong"},
		{ExitFile, "a file of profiles, aliases or approvals is wrong"},
		{ExitSecret, "a password could not be read"},
		{ExitServer, "the server, the hops or the container engine failed"},
		{ExitUnknown, "compare can't tell"},
		{exitDefect, "a bug in gharbor"},
		{ExitInterrupted, "stopped by Ctrl-C"},
	}
}

// ExitError is an error with an exit code and lines to try.
type ExitError struct {
	Code int
	Err  error // nil: the message is printed already
	Try  []string
	Do   []string // steps that are no command

	Outside bool // it is a finding, of something outside
}

func (e *ExitError) Error() string {
	if e.Err == nil {
		return ""
	}
	return e.Err.Error()
}

func (e *ExitError) Unwrap() error { return e.Err }

// Failure makes an error with an exit code and lines to try. Without an error, the message was printed already.
func Failure(code int, err error, try ...string) error {
	return &ExitError{Code: code, Err: err, Try: try}
}

// Advise adds steps to an error that are no commands.
func Advise(err error, steps ...string) error {
	var exit *ExitError
	if errors.As(err, &exit) {
		exit.Do = append(exit.Do, steps...)
	}
	return err
}

// FindingError returns an error with the exit code, the commands to try and the steps to do of a finding. A nil err
// is the finding's cause.
func FindingError(code int, err error, found *finding.Finding) error {
	if err == nil {
		err = errors.New(found.Cause)
	}
	return &ExitError{Code: code, Err: err, Try: found.Try, Do: found.Do, Outside: true}
}

// Usage is a mistake on the command line. It never repeats a value.
func Usage(format string, args ...any) error {
	return Failure(ExitUsage, fmt.Errorf(format, args...))
}

// ExitCode is the exit code of an error, with the commands to try and the steps to do.
func ExitCode(err error) (code int, try, steps []string) {
	var exit *ExitError
	var file *profile.FileError
	var request *profile.RequestError
	var secretFailure *secret.Failure
	var program interface {
		error
		ExitCode() int
	}
	switch {
	case err == nil:
		return ExitOK, nil, nil
	case errors.As(err, &exit):
		return exit.Code, exit.Try, exit.Do
	case errors.As(err, &program):
		return program.ExitCode(), nil, nil
	case errors.As(err, &file):
		return ExitFile, nil, nil
	case errors.As(err, &request):
		return ExitUsage, nil, nil
	case errors.As(err, &secretFailure):
		return ExitSecret, secretFailure.Found.Try, secretFailure.Found.Do
	case errors.Is(err, context.Canceled):
		return ExitInterrupted, nil, nil
	}
	return ExitFailed, nil, nil
}

// RouteFailed is the error for a route to a server that failed.
func RouteFailed(found *finding.Finding) error {
	return FindingError(ExitServer, &secret.Failure{Found: found}, found)
}

// noProfileError is the error for a command without a profile.
func noProfileError(try []string, format string, args ...any) error {
	return Failure(ExitUsage, fmt.Errorf(format, args...), try...)
}
