package adapter

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/plain"
	"earlybench.invalid/earlybench/core/problem"
)

// shared are the actions that mean the same everywhere, and are done by other capabilities.
var shared = []string{ActAppList, ActAppInstall, ActAppStart, ActAppStop, ActAppRemove, ActLog, ActScreen, ActPort, ActFind, ActRestart}

// Actions returns what the adapter can do of its own.
func (s *Session) Actions() (device.Actions, error) {
	a := actions{s}
	if len(a.List()) == 0 {
		return s.Bare.Actions()
	}
	return a, nil
}

type actions struct{ *Session }

func (a actions) List() (out []device.Action) {
	for _, k := range a.adapter.Actions { // those that it has declared
		if !slices.Contains(shared, k.Name) {
			out = append(out, device.Action{Name: k.Name, About: plain.Cut(plain.Line(k.About), 200), Args: k.Args})
		}
	}
	return out
}

// mostResult bounds the result of an action, in bytes.
const mostResult = 64 << 10

func (a actions) Do(ctx context.Context, name string, args json.RawMessage) (json.RawMessage, error) {
	all := a.List()
	i := slices.IndexFunc(all, func(k device.Action) bool { return k.Name == name })
	if i < 0 {
		var names []string
		for _, k := range all {
			names = append(names, k.Name)
		}
		return nil, problem.Errorf(problem.NotFound, "the adapter has no action %.60q; it has %s", name, strings.Join(names, ", "))
	}
	if len(args) == 0 {
		args = json.RawMessage("{}")
	}
	if err := checkArgs(all[i].Args, args); err != nil {
		return nil, problem.Errorf(problem.Invalid, "the arguments of %s: %w", name, err)
	}
	var result json.RawMessage
	if err := a.do(ctx, name, args, &result, nil); err != nil {
		return nil, err
	}
	if len(result) > mostResult {
		return nil, fmt.Errorf("the result of %s has %d bytes, which is more than %d", name, len(result), mostResult)
	}
	return result, nil
}

// checkArgs checks arguments by a schema; without one there are none.
func checkArgs(schema, args json.RawMessage) error {
	v, err := jsonschema.UnmarshalJSON(strings.NewReader(string(args)))
	if err != nil {
		return fmt.Errorf("they are not JSON: %w", err)
	}
	if len(schema) == 0 {
		schema = json.RawMessage(`{"type":"object","additionalProperties":false}`)
	}
	s, err := schemaOf(schema)
	if err != nil {
		return err
	}
	if err := s.Validate(v); err != nil {
		return errors.New(plain.Cut(mistakes(err), 500))
	}
	return nil
}

// mistakes are what is wrong with arguments, in one line. The first line of the error says only where the
// schema is.
func mistakes(err error) string {
	var all []string
	for line := range strings.Lines(err.Error()) {
		if text, ok := strings.CutPrefix(strings.TrimSpace(line), "- "); ok {
			all = append(all, plain.Line(strings.TrimPrefix(text, "at '': ")))
		}
	}
	return strings.Join(all, "; ")
}
