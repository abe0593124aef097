package web

import (
	"context"
	"fmt"
	"slices"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/ready"
	"earlybench.invalid/earlybench/internal/statements"
)

// mayRun answers with the apps of the projects and the app files, or with the one that is asked for.
func (s *Server) mayRun(ctx context.Context, in *struct {
	App string `query:"app" maxLength:"100" doc:"only this app"`
}) (*out[client.MayRun], error) {
	if err := s.Outlook.CheckApp(in.App); err != nil {
		return nil, problem(err)
	}
	apps := []string{in.App}
	if in.App == "" {
		var err error
		if apps, err = s.knownApps(ctx); err != nil {
			return nil, problem(err)
		}
	}
	stages, err := s.Belong.Stages(ctx, apps)
	if err != nil {
		return nil, problem(err)
	}
	answer := client.MayRun{Apps: []client.MayRunApp{}}
	for _, st := range stages {
		answer.Stages = append(answer.Stages, client.Stage{Name: st.Name, State: string(st.State), Value: st.Value, Note: st.Note, Soon: st.Soon})
	}
	cells := s.Statements.MayRun(apps)
	for _, app := range apps {
		row := client.MayRunApp{App: app, Cells: []client.MayRunCell{}}
		for _, c := range cells[app] {
			row.Cells = append(row.Cells, client.MayRunCell{Device: c.Device, Unfit: c.Unfit, State: string(c.State), Gate: c.Gate, Ends: when(c.Ends)})
		}
		answer.Apps = append(answer.Apps, row)
	}
	answer.Stages = append(answer.Stages, lastStage(cells))
	return &out[client.MayRun]{answer}, nil
}

// lastStage counts the cells, of which each is an app on a device. Devices for which an app is not made
// do not count.
func lastStage(all map[string][]statements.Cell) client.Stage {
	count := map[ready.State]int{}
	for _, cells := range all {
		for _, c := range cells {
			if !c.Unfit {
				count[c.State]++
			}
		}
	}
	may := count[ready.Open] + count[ready.NotNeeded]
	stopped := count[ready.Shut] + count[ready.Waiting]
	s := client.Stage{Name: "may run", State: string(ready.Open), Value: fmt.Sprintf("%d of %d", may, may+stopped+count[ready.Unknown]), Note: "apps on devices"}
	switch {
	case stopped == 1:
		s.State, s.Note = string(ready.Shut), "one is stopped"
	case stopped > 0:
		s.State, s.Note = string(ready.Shut), fmt.Sprintf("%d are stopped", stopped)
	case count[ready.Unknown] > 0:
		s.State, s.Note = string(ready.Unknown), fmt.Sprintf("%d not known", count[ready.Unknown])
	case may == 0:
		s.State, s.Value, s.Note = string(ready.Unknown), "none yet", "no app is known here"
	}
	return s
}

// knownApps are the apps of the projects and of the app files, by name.
func (s *Server) knownApps(ctx context.Context) ([]string, error) {
	projects, err := s.Store.Projects(ctx)
	if err != nil {
		return nil, err
	}
	files, err := s.Store.AppFiles(ctx)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, p := range projects {
		out = append(out, p.App)
	}
	for _, f := range files {
		out = append(out, f.App)
	}
	slices.Sort(out)
	return slices.Compact(out), nil
}
