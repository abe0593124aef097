package tryout_test

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/job"
	"earlybench.invalid/earlybench/core/problem"
	core "earlybench.invalid/earlybench/core/safe"
	"earlybench.invalid/earlybench/internal/safe/holder"
	"earlybench.invalid/earlybench/internal/tryout"
)

func TestATemplateIsFilledInAtABuildAndItsSecretIsNotPrinted(t *testing.T) {
	d := ivory(t)
	known, err := d.Store.Project(t.Context(), "fellgate/callout")
	require.NoError(t, err)
	file := filepath.Join(known.Dir, ".earlybench.yaml")
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, append(raw, "templates: [{from: config.tmpl, to: config.json}]\n"...), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(known.Dir, "config.tmpl"), []byte(`{"app": "{{id}}", "weather": "{{secret weather}}"}`), 0o600))

	j := d.Ended(d.ask(true))
	require.Equal(t, job.Failed, j.State)
	require.Equal(t, problem.Person, j.Error.Kind)
	require.Contains(t, j.Error.Remedy, "earlybench app secret set fellgate/callout weather")

	name := tryout.SecretOf("fellgate/callout", "weather")
	v, err := d.Safe.View(t.Context())
	require.NoError(t, err)
	envelope, err := core.Envelope(v.Public, holder.EnvelopePurpose(holder.SecretPut, name), []byte("planted-tides-91"))
	require.NoError(t, err)
	for range 2 { // another one replaces it
		_, err = d.Safe.PutSecret(t.Context(), name, envelope)
		require.NoError(t, err)
	}
	v, err = d.Safe.View(t.Context())
	require.NoError(t, err)
	require.Len(t, v.Items, 2, "the development key and one secret")
	j = d.ask(false) // a person is asked, and consents
	var text []byte
	d.Eventually("the template is filled in", func() bool {
		text, err = os.ReadFile(filepath.Join(known.Dir, "config.json"))
		return err == nil
	})
	d.Jobs.Stop(j.ID)
	require.NotContains(t, fmt.Sprint(d.Ended(j)), "planted")
	require.JSONEq(t, `{"app": "fellgate/callout", "weather": "planted-tides-91"}`, string(text))
}
