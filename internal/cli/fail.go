package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/internal/state"
)

// Exit codes.
const (
	exitDone        = 0
	exitFailed      = 1
	exitUsage       = 2
	exitBlocked     = 3
	exitUnreachable = 4
	exitNotAllowed  = 5
	exitPerson      = 6
	exitGone        = 7
)

// usageError is the error of a command that was written wrongly.
type usageError struct{ error }

func usage(format string, args ...any) error { return usageError{fmt.Errorf(format, args...)} }

// exitError is an error with an exit code of its own.
type exitError struct {
	code int
	text string
}

func (e *exitError) Error() string { return e.text }

// jobError is how a job failed.
type jobError struct{ client.Trouble }

func (e *jobError) Error() string { return strings.TrimSpace(e.Text + " " + e.Remedy) }

// failure is an error as --json prints it.
type failure struct {
	Kind   string `json:"kind"`
	Text   string `json:"text"`
	Gate   string `json:"gate"`
	Remedy string `json:"remedy"`
	Code   int    `json:"exit_code"`
}

// kinds are those of errors that the service did not make, by exit code.
var kinds = map[int]string{exitUsage: "invalid", exitBlocked: "blocked", exitUnreachable: "unreachable", exitNotAllowed: "refused", exitPerson: "person", exitGone: "gone"}

// failureOf describes an error, with its exit code.
func (p *program) failureOf(err error) failure {
	f := failure{Text: err.Error(), Code: exitFailed}
	var problem *client.Problem
	var job *jobError
	var own *exitError
	var wrong usageError
	switch {
	case errors.As(err, &own):
		f.Code = own.code
	case errors.As(err, &wrong):
		f.Code = exitUsage
	case errors.As(err, &job):
		f = failure{Kind: job.Kind, Text: job.Text, Gate: job.Gate, Remedy: job.Remedy, Code: codeOf(job.Kind, 0)}
	case errors.As(err, &problem):
		f = failure{Kind: problem.Kind, Text: problem.Sentence(), Gate: problem.Gate, Remedy: problem.Remedy, Code: codeOf(problem.Kind, problem.Status)}
	case errors.Is(err, client.ErrUnreachable):
		dir, _ := state.Dir(p.state)
		f.Code, f.Text = exitUnreachable, fmt.Sprintf("No bench answers for the state %s.", dir)
		f.Remedy = "Start one with earlybench serve or earlybench demo, or name another with --state."
	case errors.Is(err, context.Canceled):
		f.Text = "Stopped."
	}
	f.Kind = cmp.Or(f.Kind, kinds[f.Code], "failed")
	f.Text = capital(f.Text)
	return f
}

// exit prints an error and returns its exit code.
func (p *program) exit(err error) int {
	if err == nil {
		return exitDone
	}
	f := p.failureOf(err)
	switch text := strings.TrimSpace(f.Text + " " + f.Remedy); {
	case text == "":
	case p.json:
		p.encode(p.err, struct { //nolint:errcheck // standard error is gone
			Error failure `json:"error"`
		}{f})
	default:
		fmt.Fprintln(p.err, safe(strings.TrimRight(text, " ")))
	}
	return f.Code
}

// capital makes the first letter a capital, unless the first word is a handle or an id.
func capital(s string) string {
	first, _, _ := strings.Cut(s, " ")
	if s == "" || strings.ContainsAny(first, "0123456789/-_.") {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

// codeOf is the exit code of a kind of problem.
func codeOf(kind string, status int) int {
	switch kind {
	case "blocked":
		return exitBlocked
	case "person":
		return exitPerson
	case "gone":
		return exitGone
	case "refused":
		return exitNotAllowed
	}
	switch status {
	case 401, 403:
		return exitNotAllowed
	}
	return exitFailed
}
