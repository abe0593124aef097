package library_test

import (
	"context"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/sheet"
	"earlybench.invalid/earlybench/core/usb"
	"earlybench.invalid/earlybench/internal/library"
	"earlybench.invalid/earlybench/internal/store"
	"earlybench.invalid/earlybench/sheets"
)

var slate = usb.ID{Vendor: 0xf3e1, Product: 0x0102}

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

func draft(name string) []byte { return []byte(sheet.Draft(sheet.Seen{Name: name, USB: "f3e1:0102"})) }

func config(t *testing.T) library.Config {
	t.Helper()
	dir := t.TempDir()
	st, err := store.Open(t.Context(), filepath.Join(dir, "bench.db"))
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, st.Close()) })
	return library.Config{Shipped: sheets.Files, Dir: filepath.Join(dir, "sheets"), Store: st, Clock: clock.System{}, Log: slog.New(slog.DiscardHandler)}
}

// watch watches until the test ends, and returns what was taken.
func watch(t *testing.T, l *library.Library) <-chan *sheet.Library {
	t.Helper()
	took := make(chan *sheet.Library, 10)
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() {
		defer close(done)
		l.Watch(ctx, func(_ context.Context, lib *sheet.Library) error {
			took <- lib
			return nil
		})
	}()
	t.Cleanup(func() { cancel(); <-done })
	return took
}

func TestASheetBesideTheBenchIsTakenWhileItRuns(t *testing.T) {
	l, err := library.Open(t.Context(), config(t))
	require.NoError(t, err)
	require.Nil(t, l.Current().Fits(slate))
	took := watch(t, l)
	file, err := l.Add(draft("slate"))
	require.NoError(t, err)
	require.Equal(t, "slate.yaml", filepath.Base(file))
	require.NotNil(t, (<-took).Fits(slate))
	require.False(t, l.Taken(file).IsZero())
	require.Equal(t, file, l.Current().File("slate"))

	again, err := l.Add([]byte(strings.Replace(string(draft("slate")), "code: X1", "code: X2", 1)))
	require.NoError(t, err)
	require.Equal(t, file, again, "one of the same name takes its place")
	require.Equal(t, "X2", (<-took).Fits(slate).Model.Code)
	require.NoError(t, l.Drop("slate"))
	require.Nil(t, (<-took).Fits(slate))
}

func TestABrokenEditIsRefusedAndTheLastGoodOneStaysOverARestart(t *testing.T) {
	cfg := config(t)
	l, err := library.Open(t.Context(), cfg)
	require.NoError(t, err)
	took := watch(t, l)
	file, err := l.Add(draft("slate"))
	require.NoError(t, err)
	<-took
	require.NoError(t, os.WriteFile(file, []byte("sheet: slate\nmakr: x\n"), 0o600))
	require.Eventually(t, func() bool { return len(l.Trouble()) > 0 }, 10*time.Second, 10*time.Millisecond)
	require.Equal(t, file, l.Trouble()[0].File)
	require.NotNil(t, l.Current().Fits(slate))

	other, err := library.Open(t.Context(), cfg)
	require.NoError(t, err)
	require.NotEmpty(t, other.Trouble())
	require.NotNil(t, other.Current().Fits(slate), "what was good last")

	require.NoError(t, os.WriteFile(file, draft("slate"), 0o600))
	require.NotNil(t, (<-took).Fits(slate))
	require.Empty(t, l.Trouble())
}

func TestWhatIsWrongIsNotAddedAndWhatIsNeededNotDropped(t *testing.T) {
	l, err := library.Open(t.Context(), config(t))
	require.NoError(t, err)
	for text, want := range map[string]string{
		"":                                 "one YAML document",
		"about: nothing":                   "the sheet has no name",
		"sheet: slate\nextends: nothing":   "it extends sheet",
		"sheet: slate\nwalk: [scene]":      "slate",
		"sheet: tarn/halden\nextends: any": "tarn/halden",
	} {
		_, err := l.Add([]byte(text))
		require.ErrorContains(t, err, want, text)
	}
	entries, _ := os.ReadDir(l.Dir())
	require.Empty(t, entries, "nothing was written")
	require.ErrorIs(t, l.Drop("tarn"), library.ErrShipped)
	require.ErrorIs(t, l.Drop("slate"), store.ErrNotFound)

	took := watch(t, l)
	_, err = l.Add(draft("slate"))
	require.NoError(t, err)
	<-took
	_, err = l.Add([]byte("sheet: slate/other\nextends: slate\nmaker: Other\nmodels: [{usb: \"f3e1:0103\", code: O1, name: Other, handle: other}]"))
	require.NoError(t, err)
	<-took
	require.ErrorContains(t, l.Drop("slate"), "other sheets need it")
}
