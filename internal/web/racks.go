package web

import (
	"maps"
	"strings"
	"sync"

	"cel.dev/cel-go/cel"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/sheet"
	"earlybench.invalid/earlybench/core/where"
	"earlybench.invalid/earlybench/internal/outlook"
)

// racks provides the names that expressions over devices can use: device.FIELD, gate.NAME,
// fact.KEY, and known.KEY (whether a good fact of the key is known). The active sheets
// define the keys.
type racks struct {
	mu   sync.Mutex
	of   *sheet.Library // for which lang was made
	lang *where.Language
}

// racked is a standing together with its device as the interface returns it, made once.
type racked struct {
	outlook.Standing
	told *client.Device
}

func (r *racked) device() client.Device {
	if r.told == nil {
		d := deviceOf(r.Standing)
		r.told = &d
	}
	return *r.told
}

var deviceItem = where.Of[client.Device]("device")

// language returns the language for the active sheets.
func (r *racks) language(active *sheet.Library) (*where.Language, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.of == active {
		return r.lang, nil
	}
	vars := maps.Clone(deviceItem.Variables())
	vars["device.release"] = where.ReleaseType()
	for _, gates := range [][]string{sheet.Order, sheet.HostOrder} {
		for _, g := range gates {
			vars["gate."+g] = cel.StringType
		}
	}
	for _, series := range active.All() {
		for _, spec := range series.Registry.All() {
			name := "fact." + string(spec.Key)
			t := sheet.CELType(spec.Type)
			if had, ok := vars[name]; ok && !had.IsExactType(t) {
				t = cel.DynType // sheets differ about it
			}
			vars[name], vars["known."+string(spec.Key)] = t, cel.BoolType
		}
	}
	lang, err := where.New(vars)
	if err == nil {
		r.of, r.lang = active, lang
	}
	return lang, err
}

// value returns the value of a variable for a device.
func (r *racks) value(st *racked, name string) (any, bool) {
	noun, rest, _ := strings.Cut(name, ".")
	switch noun {
	case "gate":
		g := st.Readiness.Gate(rest)
		return string(g.State), g.Name != ""
	case "known":
		_, ok := st.View.Get(fact.Key(rest), st.Now)
		return ok, true
	case "fact":
		f, ok := st.View.Get(fact.Key(rest), st.Now)
		if !ok {
			return nil, false
		}
		return sheet.CELValue(f.Value), true
	}
	if rest == "release" {
		f, ok := st.View.Get(fact.OSRelease, st.Now)
		return where.Release(fact.Release(f.Value.Text())), ok
	}
	return deviceItem.Value(st.device(), name)
}
