package signing_test

import (
	"encoding/json"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/appfile"
	core "earlybench.invalid/earlybench/core/peer"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/store"
)

// rightsOf are the rights of a peer at a bench, as the columns of the table name them.
var rightsOf = map[string]store.PeerRights{
	"nothing": {}, "look": {All: "look"}, "use": {All: "use"}, "hands": {All: "hands"}, "signs": {Signs: true}, "signs, look": {All: "look", Signs: true}, "signs, use": {All: "use", Signs: true},
	"a kit": {Kits: []string{"go"}},
}

// What a peer may do besides borrowing (internal/lend has that), by its rights, written by hand: all others are refused, or
// answered as if there were nothing.
var mayDo = []struct {
	name string
	with string // the rights with which it is done, each followed by a semicolon
	do   func(p *benchtest.Pair, manifest []byte) error
}{
	{"see by which key its apps would be signed", "signs; signs, look; signs, use;", func(p *benchtest.Pair, _ []byte) error {
		return asks(p, core.MethodSignerLook, core.SignerRef{})
	}},
	{"have an app signed", "signs; signs, look; signs, use;", func(p *benchtest.Pair, manifest []byte) error {
		return asks(p, core.MethodSignerSign, core.Sign{Manifest: manifest})
	}},
	{"take back that it is to be signed", "signs; signs, look; signs, use;", func(p *benchtest.Pair, manifest []byte) error {
		return asks(p, core.MethodSignerLeave, core.Sign{Manifest: manifest})
	}},
	{"have an app put onto a device", "signs, use;", func(p *benchtest.Pair, manifest []byte) error {
		return asks(p, core.MethodDeliver, core.Deliver{Sign: core.Sign{Manifest: manifest}, ID: "delivery-1", Device: p.Heron.Device().Handle})
	}},
	{"take that back", "signs; signs, look; signs, use;", func(p *benchtest.Pair, manifest []byte) error {
		return asks(p, core.MethodDeliverLeave, core.Deliver{Sign: core.Sign{Manifest: manifest}, ID: "delivery-1", Device: p.Heron.Device().Handle})
	}},
	{"look at a kit", "a kit;", func(p *benchtest.Pair, _ []byte) error {
		return asks(p, core.MethodKit, core.LookAtKit{Kit: "go"})
	}},
	{"look at a kit that is not for it", "", func(p *benchtest.Pair, _ []byte) error {
		return asks(p, core.MethodKit, core.LookAtKit{Kit: "fell-kit"})
	}},
	{"get a file that nobody has offered", "", func(p *benchtest.Pair, _ []byte) error {
		l, _, err := p.Moor.Peers.Link("harbour-desk")
		require.NoError(p.T, err)
		f, err := l.File(p.T.Context(), core.FileRef{Of: core.OfDelivery, Digest: strings.Repeat("0", 64)})
		if err == nil {
			f.Close()
		}
		return err
	}},
	{"deliver as nobody knows it", "", func(p *benchtest.Pair, _ []byte) error { return asks(p, "delivery.all", struct{}{}) }},
}

func asks(p *benchtest.Pair, method string, params any) error {
	var out json.RawMessage
	return p.Moor.Peers.Ask(p.T.Context(), "harbour-desk", method, params, &out)
}

func TestWhatAPeerMayDoBesidesBorrowing(t *testing.T) {
	p := benchtest.NewPair(t, store.PeerRights{All: "look"})
	dir, project := built(t)
	public := p.Harbour.Safe.Developer()
	manifest, err := appfile.Describe(project.Manifest(), os.DirFS(dir), project.Files, &public)
	require.NoError(t, err)
	for name, r := range rightsOf {
		_, err := p.Harbour.Peers.Set(t.Context(), "moor-desk", func(now *store.PeerRights) { *now = r })
		require.NoError(t, err)
		for _, what := range mayDo {
			err := what.do(p, manifest)
			if done := strings.Contains("; "+what.with, "; "+name+";"); done {
				require.NoError(t, err, "%s, with %s", what.name, name)
				continue
			}
			require.Error(t, err, "%s, with %s", what.name, name)
			if name == "signs" && strings.Contains(what.name, "onto a device") {
				require.Equal(t, problem.NotFound, problem.KindOf(err), "a device that is hidden is as one that there is not")
			}
		}
	}
}
