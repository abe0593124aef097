package appfile

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"earlybench.invalid/earlybench/core/strict"
)

// Template is a file of a project that is made of another one at each build: {{id}}, {{crew}},
// {{app}}, {{version}}, {{identity}} and {{secret NAME}} are filled in.
type Template struct {
	From string `yaml:"from"`
	To   string `yaml:"to"`
}

// MaxTemplate is the largest size of a template, in bytes.
const MaxTemplate = 1 << 20

var place = regexp.MustCompile(`\{\{ *(id|crew|app|version|identity|secret +[a-z][a-z0-9-]{0,39}) *\}\}`)

// secretPlace is a place for a secret, of which the name is the first group.
var secretPlace = regexp.MustCompile(`^secret +([a-z][a-z0-9-]{0,39})$`)

// SecretName is the shape of the names of an app's secrets.
var SecretName = regexp.MustCompile(`^[a-z][a-z0-9-]{0,39}$`)

// SecretsIn are the names of the secrets that a template wants, each once.
func SecretsIn(template []byte) (names []string) {
	for _, m := range place.FindAllSubmatch(template, -1) {
		if s := secretPlace.FindSubmatch(m[1]); s != nil && !slices.Contains(names, string(s[1])) {
			names = append(names, string(s[1]))
		}
	}
	return names
}

// Fill fills a template in. secret returns a secret by its name.
func Fill(template []byte, values map[string]string, secret func(name string) ([]byte, error)) ([]byte, error) {
	var missing error
	out := place.ReplaceAllFunc(template, func(p []byte) []byte {
		name := place.FindSubmatch(p)[1]
		if s := secretPlace.FindSubmatch(name); s != nil {
			text, err := secret(string(s[1]))
			missing = errors.Join(missing, err)
			return text
		}
		return []byte(values[string(name)])
	})
	if missing != nil {
		return nil, missing
	}
	return out, nil
}

// Values are what templates of a project are filled in with, beside secrets.
func (p *Project) Values() map[string]string {
	crew, app, _ := strings.Cut(p.ID, "/")
	return map[string]string{"id": p.ID, "crew": crew, "app": app, "version": p.Version, "identity": p.Identity}
}

// Set changes single values at the top of a project file and leaves all else as it is, comments
// included. A missing value is added after the id.
func Set(file []byte, values map[string]string) ([]byte, error) {
	for _, key := range []string{"id", "identity"} {
		value, ok := values[key]
		if !ok {
			continue
		}
		line := fmt.Sprintf("%s: %s", key, quoted(value))
		at := regexp.MustCompile(`(?m)^` + key + `:.*$`)
		switch {
		case len(at.FindAll(file, 2)) > 1:
			return nil, fmt.Errorf("%s is there twice", key)
		case at.Match(file):
			file = at.ReplaceAllLiteral(file, []byte(line))
		default:
			id := regexp.MustCompile(`(?m)^id:.*$`).FindIndex(file)
			if id == nil {
				return nil, errors.New("it has no id")
			}
			file = slices.Concat(file[:id[1]], []byte("\n"+line), file[id[1]:])
		}
	}
	p := &Project{}
	if err := strict.YAML(file, p); err != nil {
		return nil, err
	}
	return file, p.check()
}

var plainValue = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9/_. -]*[A-Za-z0-9]$`)

// quoted writes a value as YAML: plain where that is safe.
func quoted(value string) string {
	if plainValue.MatchString(value) {
		return value
	}
	return fmt.Sprintf("%q", value)
}
