package web

import (
	"bytes"
	"context"
	"io"

	"github.com/danielgtaylor/huma/v2"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/job"
	eb "earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/access"
	"earlybench.invalid/earlybench/internal/signing"
	"earlybench.invalid/earlybench/internal/store"
	"earlybench.invalid/earlybench/internal/tryout"
)

func (s *Server) appRoutes() {
	a := s.api
	huma.Register(a, operation(access.Look, "GET", "/projects", "projects", "The projects"), s.projects)
	huma.Register(a, operation(access.Own, "POST", "/projects", "add-project", "Let the bench build from an app's directory"), s.addProject)
	huma.Register(a, operation(access.Look, "GET", "/apps", "apps", "The app files"), s.apps)
	huma.Register(a, operation(access.Own, "POST", "/apps", "add-app", "Check an app file and take it in"), s.addApp)
	huma.Register(a, work(access.Use, "/runs", "run", "Run an app on a device, or try it"), s.startRun)
	huma.Register(a, silent(access.Use, "/devices/{handle}/apps/stop", "stop-app", "Stop an app on a device"), s.stopApp)
	huma.Register(a, silent(access.Use, "/devices/{handle}/apps/remove", "remove-app", "Remove an app from a device"), s.removeApp)
	huma.Register(a, operation(access.Look, "GET", "/jobs", "jobs", "The newest jobs"), s.jobs)
	huma.Register(a, operation(access.Look, "GET", "/jobs/{id}", "job", "A job"), s.job)
	huma.Register(a, silent(access.Use, "/jobs/{id}/stop", "stop-job", "Stop a job"), s.stopJob)
	huma.Register(a, work(access.Use, "/jobs/{id}/repeat", "repeat-job", "Repeat a run or tryout; if it was on several devices, only where it failed"), s.repeatJob)
	huma.Register(a, operation(access.Look, "GET", "/tryouts", "tryouts", "The newest tryouts"), s.tryouts)
	huma.Register(a, operation(access.Look, "GET", "/tryouts/{id}", "tryout", "A tryout"), s.tryout)
	huma.Register(a, operation(access.Look, "GET", "/tryouts/{id}/picture.png", "picture", "A tryout's picture"), s.picture)
}

func (s *Server) startRun(ctx context.Context, in *out[client.Run]) (*accepted, error) {
	if err := required("app, or file,", in.Body.App+in.Body.File); err != nil {
		return nil, problem(err)
	}
	devices := in.Body.Devices
	if in.Body.Device != "" {
		devices = append([]string{in.Body.Device}, devices...)
	}
	if in.Body.Peer != "" {
		return s.deliver(ctx, in.Body, devices)
	}
	j, err := s.Tryouts.Start(ctx, tryout.Ask{App: in.Body.App, Build: in.Body.Build, File: in.Body.File, Devices: devices, Try: in.Body.Try, Unattended: in.Body.Unattended, Actor: access.From(ctx).String()})
	if err != nil {
		return nil, problem(err)
	}
	return &accepted{jobOf(j)}, nil
}

// deliver makes a peer install an app on one of its devices.
func (s *Server) deliver(ctx context.Context, r client.Run, devices []string) (*accepted, error) {
	switch {
	case r.File != "":
		return nil, problem(eb.Errorf(eb.Invalid, "an app file is already signed, but %s only installs apps that it signs itself: give the app's project", r.Peer))
	case len(devices) != 1:
		return nil, problem(eb.Errorf(eb.Invalid, "name one device of %s", r.Peer))
	}
	j, err := s.Signing.Deliver(ctx, signing.Delivery{App: r.App, Build: r.Build, Peer: r.Peer, Device: devices[0], Try: r.Try, Unattended: r.Unattended}, access.From(ctx).String())
	if err != nil {
		return nil, problem(err)
	}
	return &accepted{jobOf(j)}, nil
}

// AppOnDevice is an app on a device; it is exported so that huma reads it where it is embedded.
type AppOnDevice struct {
	OfDevice
	Body struct {
		App string `json:"app" maxLength:"80" doc:"its id"`
	}
}

func (s *Server) stopApp(ctx context.Context, in *AppOnDevice) (*struct{}, error) {
	return nil, problem(s.Tryouts.StopApp(ctx, in.Handle, in.Body.App))
}

func (s *Server) removeApp(ctx context.Context, in *AppOnDevice) (*struct{}, error) {
	return nil, problem(s.Tryouts.RemoveApp(ctx, in.Handle, in.Body.App))
}

func (s *Server) jobs(ctx context.Context, in *struct{ Select }) (*out[client.List[client.Job]], error) {
	if in.After != "" {
		if _, err := s.jobNow(ctx, in.After); err != nil {
			return nil, problem(noSuch(in.After))
		}
	}
	return jobList.from(in.Select, paged(ctx, in.After, jobList.id, func(ctx context.Context, after string, n int) ([]client.Job, error) {
		all, err := s.Store.Jobs(ctx, after, n)
		if err != nil {
			return nil, err
		}
		var items []client.Job
		for _, j := range all {
			if now, ok := s.Jobs.Job(j.ID); ok {
				j = now
			}
			items = append(items, jobOf(j))
		}
		return items, nil
	}))
}

func (s *Server) job(ctx context.Context, in *OfID) (*out[client.Job], error) {
	j, err := s.jobNow(ctx, in.ID)
	if err != nil {
		return nil, problem(err)
	}
	return &out[client.Job]{jobOf(j)}, nil
}

func (s *Server) stopJob(ctx context.Context, in *OfID) (*struct{}, error) {
	j, err := s.jobNow(ctx, in.ID)
	if err != nil {
		return nil, problem(err)
	}
	if !s.Jobs.Stop(in.ID) {
		return nil, problem(eb.Errorf(eb.Invalid, "job %s has already ended: it is %s", in.ID, j.State))
	}
	return nil, nil
}

func (s *Server) repeatJob(ctx context.Context, in *OfID) (*accepted, error) {
	j, err := s.jobNow(ctx, in.ID)
	if err != nil {
		return nil, problem(err)
	}
	repeat := s.Tryouts.Repeat
	if signing.Repeatable(j) {
		repeat = s.Signing.Repeat
	}
	again, err := repeat(ctx, j, access.From(ctx).String())
	if err != nil {
		return nil, problem(err)
	}
	return &accepted{jobOf(again)}, nil
}

// jobNow returns the current state of a job: a running one is newer than its record.
func (s *Server) jobNow(ctx context.Context, id string) (job.Job, error) {
	if j, ok := s.Jobs.Job(id); ok {
		return j, nil
	}
	return s.Store.Job(ctx, id)
}

func (s *Server) tryouts(ctx context.Context, in *struct {
	Device string `query:"device"`
	Select
}) (*out[client.List[client.Tryout]], error) {
	id := ""
	if in.Device != "" {
		k, err := s.Rack.Find(in.Device)
		if err != nil {
			return nil, problem(err)
		}
		id = k.Device().ID
	}
	if in.After != "" {
		if _, err := s.Store.Tryout(ctx, in.After); err != nil {
			return nil, problem(noSuch(in.After))
		}
	}
	return tryoutList.from(in.Select, paged(ctx, in.After, tryoutList.id, func(ctx context.Context, after string, n int) ([]client.Tryout, error) {
		all, err := s.Store.Tryouts(ctx, id, after, n)
		return each(all, tryoutOf), err
	}))
}

func (s *Server) tryout(ctx context.Context, in *OfID) (*out[client.Tryout], error) {
	t, err := s.Store.Tryout(ctx, in.ID)
	if err != nil {
		return nil, problem(err)
	}
	return &out[client.Tryout]{tryoutOf(t)}, nil
}

type png struct {
	ContentType string `header:"Content-Type"`
	Body        []byte
}

func (s *Server) picture(ctx context.Context, in *OfID) (*png, error) {
	t, err := s.Store.Tryout(ctx, in.ID)
	if err != nil {
		return nil, problem(err)
	}
	f, err := s.Files.Open(t.Picture)
	if err != nil {
		return nil, problem(err)
	}
	defer f.Close()
	var b bytes.Buffer
	if _, err := io.Copy(&b, f); err != nil {
		return nil, problem(err)
	}
	return &png{"image/png", b.Bytes()}, nil
}

func (s *Server) projects(ctx context.Context, in *struct{ Select }) (*out[client.List[client.Project]], error) {
	all, err := s.Store.Projects(ctx)
	if err != nil {
		return nil, problem(err)
	}
	return projectList.of(in.Select, each(all, projectOf))
}

func (s *Server) apps(ctx context.Context, in *struct{ Select }) (*out[client.List[client.AppFile]], error) {
	all, err := s.Store.AppFiles(ctx)
	if err != nil {
		return nil, problem(err)
	}
	return appList.of(in.Select, each(all, appFileOf))
}

func (s *Server) addApp(ctx context.Context, in *struct {
	Body struct {
		Path string `json:"path" doc:"absolute path of the app file"`
	}
}) (*out[client.AppFile], error) {
	a, err := s.Tryouts.TakeIn(ctx, in.Body.Path)
	if err != nil {
		return nil, problem(err)
	}
	return &out[client.AppFile]{appFileOf(a)}, nil
}

func (s *Server) addProject(ctx context.Context, in *struct {
	Body struct {
		Dir string `json:"dir" doc:"absolute path of the app's directory"`
	}
}) (*out[client.Project], error) {
	p, err := s.Tryouts.AddProject(ctx, in.Body.Dir)
	if err != nil {
		return nil, problem(err)
	}
	return &out[client.Project]{projectOf(store.Project{App: p.ID, Dir: p.Dir})}, nil
}
