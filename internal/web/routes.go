package web

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/internal/keeper"
	"earlybench.invalid/earlybench/internal/store"
	"earlybench.invalid/earlybench/internal/tryout"
)

type (
	out[T any] struct{ Body T }
	none       struct{}
	// OfDevice is exported so that huma reads it where it is embedded.
	OfDevice struct {
		Handle string `path:"handle" maxLength:"60"`
		App    string `query:"app" doc:"count the gates of this app too"`
	}
	OfID struct {
		ID string `path:"id" maxLength:"60"`
	}
	accepted struct {
		Body client.Job
	}
)

// operation describes one operation of the interface.
func operation(method, path, id, summary string) huma.Operation {
	op := huma.Operation{Method: method, Path: "/api/v1" + path, OperationID: id, Summary: summary}
	if method == http.MethodPost {
		op.DefaultStatus = http.StatusOK
	}
	return op
}

// silent describes an operation that answers with its status alone.
func silent(path, id, summary string) huma.Operation {
	op := operation(http.MethodPost, path, id, summary)
	op.DefaultStatus = http.StatusNoContent
	return op
}

func work(path, id, summary string) huma.Operation {
	op := operation(http.MethodPost, path, id, summary)
	op.DefaultStatus = http.StatusAccepted
	return op
}

func (s *Server) routes() {
	cfg := huma.DefaultConfig("Early Bench", Version)
	cfg.OpenAPIPath, cfg.DocsPath, cfg.SchemasPath = "/api/openapi", "", ""
	cfg.CreateHooks = nil // no $schema members in answers
	cfg.Info.Description = "What a bench knows and does. Errors are application/problem+json (RFC 9457). Events are at /api/v1/events, as server-sent events."
	s.api = huma.NewAPI(cfg, adapter{s.app})
	a := s.api

	huma.Register(a, operation("GET", "/bench", "bench", "The bench itself"), s.bench)
	huma.Register(a, silent("/sign-in", "sign-in", "Sign a browser in with a one-time secret"), s.signIn)
	huma.Register(a, silent("/sign-out", "sign-out", "Sign a browser out"), s.signOut)
	huma.Register(a, operation("POST", "/sign-in-addresses", "offer-sign-in", "Make a one-time sign-in address"),
		func(context.Context, *none) (*out[client.SignInAddress], error) {
			return &out[client.SignInAddress]{client.SignInAddress{URL: s.Offer()}}, nil
		})

	huma.Register(a, operation("GET", "/devices", "devices", "The rack"), s.devices)
	huma.Register(a, operation("GET", "/round", "round", "The devices by what they need next"), s.round)
	huma.Register(a, operation("GET", "/strange", "strange", "What hangs on a bus and no prep sheet fits"), s.strange)
	huma.Register(a, operation("POST", "/devices", "add-device", "Put a device on the rack that no bus shows"), s.addDevice)
	huma.Register(a, silent("/devices/{handle}/find", "find", "Have the device show its handle"), s.find)
	huma.Register(a, operation("GET", "/devices/{handle}", "device", "A device"), s.device)
	huma.Register(a, operation("PATCH", "/devices/{handle}", "change-device", "Change a device's record"), s.changeDevice)
	huma.Register(a, operation("GET", "/devices/{handle}/prep", "prep", "A device's plan"), s.plan)
	huma.Register(a, work("/devices/{handle}/admission", "ask", "Have the device ask its owner to let this bench in"), s.ask)
	huma.Register(a, work("/devices/{handle}/driver", "install-driver", "Install the driver set that fits, with consent"), s.installDriver)

	s.retireRoutes()
	s.phoneRoutes()
	s.whyRoutes()
	s.sheetRoutes()

	huma.Register(a, operation("GET", "/hosts", "hosts", "The hosts"), s.hosts)
	huma.Register(a, operation("POST", "/hosts", "add-host", "Add a host"), s.addHost)
	huma.Register(a, operation("PATCH", "/hosts/{id}", "change-host", "Say whether several people use a host"), s.changeHost)
	huma.Register(a, operation("DELETE", "/hosts/{id}", "drop-host", "Forget a host"), s.dropHost)
	huma.Register(a, operation("GET", "/sets", "sets", "The driver sets"), s.sets)
	add := operation("POST", "/sets", "add-set", "Add a driver set's file")
	add.MaxBodyBytes = maxBody
	huma.Register(a, add, s.addSet)
	huma.Register(a, operation("GET", "/projects", "projects", "The projects"), s.projects)
	huma.Register(a, operation("POST", "/projects", "add-project", "Let the bench build from an app's directory; over the socket only"), s.addProject)
	huma.Register(a, operation("GET", "/apps", "apps", "The app files"), s.apps)
	huma.Register(a, operation("POST", "/apps", "add-app", "Check an app file and take it in; over the socket only"), s.addApp)
	huma.Register(a, work("/runs", "run", "Run an app on a device, or try it"), s.startRun)
	huma.Register(a, operation("GET", "/jobs", "jobs", "The newest jobs"), s.jobs)
	huma.Register(a, operation("GET", "/jobs/{id}", "job", "A job"), s.job)
	huma.Register(a, silent("/jobs/{id}/stop", "stop-job", "Stop a job"), s.stopJob)
	huma.Register(a, operation("GET", "/tryouts", "tryouts", "The newest tryouts"), s.tryouts)
	huma.Register(a, operation("GET", "/tryouts/{id}", "tryout", "A tryout"), s.tryout)
	huma.Register(a, operation("GET", "/tryouts/{id}/picture.png", "picture", "A tryout's picture"), s.picture)
	nullable(a.OpenAPI().Components.Schemas.Map())
}

// nullable says of the members that are an object or null that they are so,
// which pointers to objects do not say by themselves.
func nullable(schemas map[string]*huma.Schema) {
	for name, members := range map[string][]string{"Device": {"next"}, "Step": {"draw", "denied"}, "Prep": {"offer"}, "Why": {"next"}, "Move": {"step"}, "Job": {"error", "result"}} {
		for _, m := range members {
			was := schemas[name].Properties[m]
			schemas[name].Properties[m] = &huma.Schema{AnyOf: []*huma.Schema{{Ref: was.Ref}, {Type: "null"}}, Description: was.Description}
		}
	}
}

func list[T any](items []T) *out[client.List[T]] {
	if items == nil {
		items = []T{}
	}
	return &out[client.List[T]]{Body: client.List[T]{Items: items}}
}

func (s *Server) devices(ctx context.Context, in *struct {
	App    string   `query:"app"`
	Handle []string `query:"handle" doc:"only these, parted by commas; those that are not on the rack are left out"`
}) (*out[client.List[client.Device]], error) {
	return list(s.rack(ctx, in.App, in.Handle...)), nil
}

// rack is every device, or only some, but those that were put away.
func (s *Server) rack(ctx context.Context, app string, only ...string) []client.Device {
	wanted := map[string]bool{}
	for _, h := range only {
		wanted[h] = true
	}
	var items []client.Device
	for _, k := range s.Rack.All() {
		if len(only) > 0 && !wanted[k.Device().Handle] {
			continue
		}
		st := k.Glance(ctx, app)
		if r := st.Device.Retirement; r != nil && !r.Ended.IsZero() && st.At == nil {
			continue
		}
		items = append(items, deviceOf(st))
	}
	return items
}

func (s *Server) strange(context.Context, *none) (*out[client.List[client.Strange]], error) {
	var items []client.Strange
	for _, x := range s.Rack.Strange() {
		items = append(items, client.Strange{Name: x.Name, USB: x.USB, Host: x.Host, Port: x.Port, Interfaces: append([]string{}, x.Interfaces...)})
	}
	return list(items), nil
}

// look finds a device and how it stands.
func (s *Server) look(ctx context.Context, in *OfDevice) (keeper.Standing, error) {
	k, err := s.Rack.Find(in.Handle)
	if err != nil {
		return keeper.Standing{}, problem(err)
	}
	return k.Look(ctx, in.App), nil
}

func (s *Server) device(ctx context.Context, in *OfDevice) (*out[client.Device], error) {
	st, err := s.look(ctx, in)
	if err != nil {
		return nil, err
	}
	return &out[client.Device]{deviceOf(st)}, nil
}

func (s *Server) changeDevice(ctx context.Context, in *struct {
	OfDevice
	Body client.Change
}) (*out[client.Device], error) {
	if err := s.Rack.Set(ctx, in.Handle, keeper.Change{Handle: in.Body.Handle, HandsURL: in.Body.HandsURL, Key: in.Body.Key}); err != nil {
		return nil, problem(err)
	}
	if in.Body.Handle != nil {
		in.Handle = *in.Body.Handle
	}
	return s.device(ctx, &in.OfDevice)
}

func (s *Server) plan(ctx context.Context, in *OfDevice) (*out[client.Prep], error) {
	st, err := s.look(ctx, in)
	if err != nil {
		return nil, err
	}
	return &out[client.Prep]{planOf(st)}, nil
}

func (s *Server) ask(ctx context.Context, in *OfDevice) (*accepted, error) {
	j, err := s.Prep.Ask(ctx, in.Handle)
	if err != nil {
		return nil, problem(err)
	}
	return &accepted{jobOf(j)}, nil
}

func (s *Server) installDriver(ctx context.Context, in *struct {
	OfDevice
	Body struct {
		Accept string `json:"accept" doc:"digest of the driver set that is consented to"`
	}
}) (*accepted, error) {
	j, err := s.Supply.Install(ctx, in.Handle, in.Body.Accept)
	if err != nil {
		return nil, problem(err)
	}
	return &accepted{jobOf(j)}, nil
}

func (s *Server) addSet(ctx context.Context, in *struct {
	RawBody []byte `contentType:"application/octet-stream"`
}) (*out[client.DriverSet], error) {
	d, err := s.Supply.Add(ctx, in.RawBody)
	if err != nil {
		return nil, problem(err)
	}
	return &out[client.DriverSet]{setOf(d)}, nil
}

func (s *Server) sets(ctx context.Context, _ *none) (*out[client.List[client.DriverSet]], error) {
	all, err := s.Store.DriverSets(ctx)
	if err != nil {
		return nil, problem(err)
	}
	var items []client.DriverSet
	for _, d := range all {
		items = append(items, setOf(d))
	}
	return list(items), nil
}

func (s *Server) hosts(ctx context.Context, _ *none) (*out[client.List[client.Host]], error) {
	all, err := s.Store.Hosts(ctx)
	if err != nil {
		return nil, problem(err)
	}
	var items []client.Host
	for _, h := range all {
		c := client.Host{Name: h.Name, USBIP: h.USBIP, Control: h.Control, Shared: h.Shared}
		if err := s.Hosts.Trouble(h.Name); err != nil {
			c.Trouble = sentence(err.Error())
		}
		items = append(items, c)
	}
	return list(items), nil
}

func (s *Server) addHost(ctx context.Context, in *out[client.Host]) (*out[client.Host], error) {
	for name, value := range map[string]string{"usbip": in.Body.USBIP, "control": in.Body.Control} {
		if err := hostPort(name, value); err != nil {
			return nil, problem(err)
		}
	}
	before, err := s.Store.Hosts(ctx)
	if err != nil {
		return nil, problem(err)
	}
	for _, h := range before { // a new address makes it no computer of one person's own
		in.Body.Shared = in.Body.Shared || h.Name == in.Body.Name && h.Shared
	}
	h := store.Host{Name: in.Body.Name, USBIP: in.Body.USBIP, Control: in.Body.Control, Shared: in.Body.Shared}
	s.Rack.SetShared(h.Name, h.Shared)
	if err := s.Store.SaveHost(ctx, h); err != nil {
		return nil, problem(err)
	}
	s.Hosts.Watch(h)
	return in, nil
}

func (s *Server) changeHost(ctx context.Context, in *struct {
	OfID
	Body struct {
		Shared bool `json:"shared" doc:"several people use it: it never asks a device for more than this visit"`
	}
}) (*out[client.Host], error) {
	all, err := s.Store.Hosts(ctx)
	if err != nil {
		return nil, problem(err)
	}
	for _, h := range all {
		if h.Name != in.ID {
			continue
		}
		h.Shared = in.Body.Shared
		if err := s.Store.SaveHost(ctx, h); err != nil {
			return nil, problem(err)
		}
		s.Rack.SetShared(h.Name, h.Shared)
		return &out[client.Host]{client.Host{Name: h.Name, USBIP: h.USBIP, Control: h.Control, Shared: h.Shared}}, nil
	}
	return nil, problem(fmt.Errorf("host %s: %w", in.ID, store.ErrNotFound))
}

func (s *Server) addDevice(ctx context.Context, in *out[client.NewDevice]) (*out[client.Device], error) {
	k, err := s.Rack.Add(ctx, in.Body.Handle, in.Body.Model)
	if err != nil {
		return nil, problem(err)
	}
	return &out[client.Device]{deviceOf(k.Look(ctx, ""))}, nil
}

func (s *Server) find(ctx context.Context, in *OfDevice) (*struct{}, error) {
	k, err := s.Rack.Find(in.Handle)
	if err != nil {
		return nil, problem(err)
	}
	return nil, problem(k.Show(ctx))
}

func (s *Server) dropHost(ctx context.Context, in *OfID) (*struct{}, error) {
	if err := s.Store.DropHost(ctx, in.ID); err != nil {
		return nil, problem(err)
	}
	s.Hosts.Forget(in.ID)
	return nil, nil
}

func (s *Server) startRun(ctx context.Context, in *out[client.Run]) (*accepted, error) {
	if err := required("app, or file,", in.Body.App+in.Body.File); err != nil {
		return nil, problem(err)
	}
	j, err := s.Tryouts.Start(ctx, tryout.Ask{App: in.Body.App, File: in.Body.File, Device: in.Body.Device, Try: in.Body.Try})
	if err != nil {
		return nil, problem(err)
	}
	return &accepted{jobOf(j)}, nil
}

func (s *Server) jobs(ctx context.Context, _ *none) (*out[client.List[client.Job]], error) {
	all, err := s.Store.Jobs(ctx, 100)
	if err != nil {
		return nil, problem(err)
	}
	var items []client.Job
	for _, j := range all {
		items = append(items, jobOf(j))
	}
	return list(items), nil
}

func (s *Server) job(ctx context.Context, in *OfID) (*out[client.Job], error) {
	j, err := s.Store.Job(ctx, in.ID)
	if err != nil {
		return nil, problem(err)
	}
	return &out[client.Job]{jobOf(j)}, nil
}

func (s *Server) stopJob(ctx context.Context, in *OfID) (*struct{}, error) {
	if _, err := s.Store.Job(ctx, in.ID); err != nil {
		return nil, problem(err)
	}
	s.Jobs.Stop(in.ID)
	return nil, nil
}

func (s *Server) tryouts(ctx context.Context, in *struct {
	Device string `query:"device"`
}) (*out[client.List[client.Tryout]], error) {
	id := ""
	if in.Device != "" {
		k, err := s.Rack.Find(in.Device)
		if err != nil {
			return nil, problem(err)
		}
		id = k.Device().ID
	}
	all, err := s.Store.Tryouts(ctx, id, 100)
	if err != nil {
		return nil, problem(err)
	}
	var items []client.Tryout
	for _, t := range all {
		items = append(items, tryoutOf(t))
	}
	return list(items), nil
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

func (s *Server) bench(ctx context.Context, _ *none) (*out[client.Bench], error) {
	last, err := s.Store.Last(ctx)
	if err != nil {
		return nil, problem(err)
	}
	return &out[client.Bench]{s.benchOf(last)}, nil
}

func (s *Server) projects(ctx context.Context, _ *none) (*out[client.List[client.Project]], error) {
	all, err := s.Store.Projects(ctx)
	if err != nil {
		return nil, problem(err)
	}
	var items []client.Project
	for _, p := range all {
		items = append(items, projectOf(p))
	}
	return list(items), nil
}

func (s *Server) apps(ctx context.Context, _ *none) (*out[client.List[client.AppFile]], error) {
	all, err := s.Store.AppFiles(ctx)
	if err != nil {
		return nil, problem(err)
	}
	var items []client.AppFile
	for _, a := range all {
		items = append(items, appFileOf(a))
	}
	return list(items), nil
}

func (s *Server) addApp(ctx context.Context, in *struct {
	Body struct {
		Path string `json:"path" doc:"whole path of the app file"`
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
		Dir string `json:"dir" doc:"whole path of the app's directory"`
	}
}) (*out[client.Project], error) {
	p, err := s.Tryouts.AddProject(ctx, in.Body.Dir)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(sentence(err.Error()))
	}
	return &out[client.Project]{projectOf(store.Project{App: p.ID, Dir: p.Dir})}, nil
}
