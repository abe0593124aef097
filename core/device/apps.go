package device

import (
	"fmt"

	"earlybench.invalid/earlybench/core/plain"
)

// What is kept of the apps that one device lists.
const (
	mostApps    = 500
	mostAppText = 200 // bytes of an app's name, version and so on
)

// Bounded are the apps that a device lists, as far as they are kept: the last says how many are left out, and long
// texts are cut.
func Bounded(apps []App) []App {
	if more := len(apps) - mostApps; more > 0 {
		apps = append(apps[:mostApps:mostApps], App{ID: "…", Name: fmt.Sprintf("%d more apps, not listed here", more)})
	}
	for i := range apps {
		a := &apps[i]
		for _, text := range []*string{&a.ID, &a.Version, &a.Digest, &a.Name} {
			*text = plain.Cut(*text, mostAppText)
		}
	}
	return apps
}
