// Package client speaks the HTTP interface of a bench: over its Unix socket, as
// the one who owns the bench. Errors of the interface are [*Problem]; a bench
// that does not answer is [ErrUnreachable].
package client

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
)

// ErrUnreachable is a bench that does not answer.
var ErrUnreachable = errors.New("no bench answers")

// Client is a bench's client. It may be used from many goroutines.
type Client struct {
	http *http.Client
	base string
	key  string
	// reservation is the one under which work is done; "" for none.
	reservation string
	dial        func(ctx context.Context, network, address string) (net.Conn, error)
}

// New makes a client of the bench whose Unix socket is given.
func New(socket string) *Client {
	dial := func(ctx context.Context, _, _ string) (net.Conn, error) {
		var d net.Dialer
		return d.DialContext(ctx, "unix", socket)
	}
	return &Client{http: &http.Client{Transport: &http.Transport{DialContext: dial}}, base: "http://bench", dial: dial}
}

// WithKey makes a client that acts by an access key, and not as the owner.
func (c *Client) WithKey(key string) *Client {
	next := *c
	next.key = key
	return &next
}

type decidedKey struct{}

// Decided returns a context in which actions carry the revision of the device on
// which they were decided: they are refused once that is not its revision.
func Decided(ctx context.Context, revision int64) context.Context {
	return context.WithValue(ctx, decidedKey{}, revision)
}

type onceKey struct{}

// Once returns a context in which a POST carries a key of its sender's choice: sent
// again with the same key, it is not done again and gets the same answer.
func Once(ctx context.Context, key string) context.Context {
	return context.WithValue(ctx, onceKey{}, key)
}

// Close lets go of what is kept open.
func (c *Client) Close() { c.http.CloseIdleConnections() }

func (c *Client) send(ctx context.Context, method, path string, body io.Reader, kind string) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, method, c.base+path, body)
	if err != nil {
		return nil, err
	}
	if kind != "" {
		req.Header.Set("Content-Type", kind)
	}
	if c.key != "" {
		req.Header.Set("Authorization", "Bearer "+c.key)
	}
	if c.reservation != "" && method != http.MethodGet {
		req.Header.Set("Reservation", c.reservation)
	}
	if revision, ok := ctx.Value(decidedKey{}).(int64); ok && method != http.MethodGet {
		req.Header.Set("If-Match", strconv.Quote(strconv.FormatInt(revision, 10)))
	}
	if key, ok := ctx.Value(onceKey{}).(string); ok && method == http.MethodPost {
		req.Header.Set("Idempotency-Key", key)
	}
	res, err := c.http.Do(req)
	if err != nil {
		if ctx.Err() != nil {
			return nil, context.Cause(ctx)
		}
		return nil, fmt.Errorf("%w: %w", ErrUnreachable, err)
	}
	if res.StatusCode < 400 {
		return res, nil
	}
	defer res.Body.Close()
	return nil, readProblem(res)
}

// readProblem reads the error that the bench answers.
func readProblem(res *http.Response) *Problem {
	p := &Problem{Status: res.StatusCode, Title: res.Status}
	raw, _ := io.ReadAll(io.LimitReader(res.Body, 1<<20))
	if json.Unmarshal(raw, p) != nil || p.Detail == "" {
		p.Detail = strings.TrimSpace(string(raw))
	}
	return p
}

// call sends in as JSON, unless it is nil, and decodes the answer into an Out.
func call[Out any](ctx context.Context, c *Client, method, path string, in any) (Out, error) {
	var out Out
	var body io.Reader
	kind := ""
	if in != nil {
		raw, err := json.Marshal(in)
		if err != nil {
			return out, err
		}
		body, kind = bytes.NewReader(raw), "application/json"
	}
	res, err := c.send(ctx, method, path, body, kind)
	if err != nil {
		return out, err
	}
	defer res.Body.Close()
	if res.StatusCode == http.StatusNoContent {
		return out, nil
	}
	if err := json.NewDecoder(res.Body).Decode(&out); err != nil {
		return out, fmt.Errorf("decode the bench's answer to %s: %w", path, err)
	}
	return out, nil
}

const api = "/api/v1"

func device(handle string) string { return api + "/devices/" + url.PathEscape(handle) }

// Bench asks for the bench itself.
func (c *Client) Bench(ctx context.Context) (Bench, error) {
	return call[Bench](ctx, c, "GET", api+"/bench", nil)
}

// SignInAddress asks for a one-time address that signs a browser in.
func (c *Client) SignInAddress(ctx context.Context) (string, error) {
	out, err := call[SignInAddress](ctx, c, "POST", api+"/sign-in-addresses", struct{}{})
	return out.URL, err
}

// Devices lists the rack; with an app, the gates per app too.
func (c *Client) Devices(ctx context.Context, app string, sel ...Select) ([]Device, error) {
	return list[Device](ctx, c, api+"/devices", url.Values{"app": {app}}, sel)
}

// Unrecognised lists what is connected to a bus and fits no prep sheet.
func (c *Client) Unrecognised(ctx context.Context, sel ...Select) ([]Unrecognised, error) {
	return list[Unrecognised](ctx, c, api+"/unrecognised", nil, sel)
}

// Prep asks for a device's plan.
func (c *Client) Prep(ctx context.Context, handle, app string) (Prep, error) {
	return call[Prep](ctx, c, "GET", device(handle)+"/prep?app="+url.QueryEscape(app), nil)
}

// Why asks why a device is not ready.
func (c *Client) Why(ctx context.Context, handle, app string) (Why, error) {
	return call[Why](ctx, c, "GET", device(handle)+"/why?app="+url.QueryEscape(app), nil)
}

// Answer answers a check about a device.
func (c *Client) Answer(ctx context.Context, handle, check, answer string) error {
	_, err := call[struct{}](ctx, c, "POST", device(handle)+"/answers", Answer{Check: check, Answer: answer})
	return err
}

// TakeBack takes an answer back.
func (c *Client) TakeBack(ctx context.Context, handle, check string) error {
	_, err := call[struct{}](ctx, c, "DELETE", device(handle)+"/answers/"+url.PathEscape(check), nil)
	return err
}

// Remedied says that what helps against a cause was done.
func (c *Client) Remedied(ctx context.Context, handle, cause string) error {
	_, err := call[struct{}](ctx, c, "POST", device(handle)+"/remedies", map[string]string{"cause": cause})
	return err
}

// TellFact says what people may know of a device, as people write it.
func (c *Client) TellFact(ctx context.Context, handle, key, value string) error {
	_, err := call[struct{}](ctx, c, "POST", device(handle)+"/facts", map[string]string{"key": key, "value": value})
	return err
}

// Report asks for all that helps a colleague, without secrets.
func (c *Client) Report(ctx context.Context, handle, app string) (string, error) {
	r, err := call[Report](ctx, c, "GET", device(handle)+"/report?app="+url.QueryEscape(app), nil)
	return r.Text, err
}

// Learned asks what causes turned out to be the ones.
func (c *Client) Learned(ctx context.Context, sel ...Select) ([]Learned, error) {
	return list[Learned](ctx, c, api+"/learned", nil, sel)
}

// Unlearn forgets what was learned about a family, or everything, and returns for how
// many causes.
func (c *Client) Unlearn(ctx context.Context, family string, all bool) (int, error) {
	out, err := call[struct{ Forgotten int }](ctx, c, "DELETE", fmt.Sprintf("%s/learned?family=%s&all=%t", api, url.QueryEscape(family), all), nil)
	return out.Forgotten, err
}

// Sheets asks for the active prep sheets.
func (c *Client) Sheets(ctx context.Context, sel ...Select) (Sheets, error) {
	return call[Sheets](ctx, c, "GET", api+"/sheets"+query(url.Values{}, sel), nil)
}

// AddSheet puts a sheet beside the bench and tells in which file.
func (c *Client) AddSheet(ctx context.Context, text string) (AddedSheet, error) {
	return call[AddedSheet](ctx, c, "POST", api+"/sheets", map[string]string{"text": text})
}

// DropSheet takes a sheet beside the bench away.
func (c *Client) DropSheet(ctx context.Context, name string) error {
	_, err := call[struct{}](ctx, c, "DELETE", api+"/sheets/"+url.PathEscape(strings.ReplaceAll(name, "/", "~")), nil)
	return err
}

// DeviceSheet asks for the sheet as it results for a device.
func (c *Client) DeviceSheet(ctx context.Context, handle string) (DeviceSheet, error) {
	return call[DeviceSheet](ctx, c, "GET", device(handle)+"/sheet", nil)
}

// History asks for what was known of a device before, the newest first.
func (c *Client) History(ctx context.Context, handle string, sel ...Select) ([]Fact, error) {
	return list[Fact](ctx, c, device(handle)+"/history", nil, sel)
}

// Facts asks for all that is known of a device.
func (c *Client) Facts(ctx context.Context, handle string, sel ...Select) ([]Fact, error) {
	return list[Fact](ctx, c, device(handle)+"/facts", nil, sel)
}

// Set changes a device's record.
func (c *Client) Set(ctx context.Context, handle string, ch Change) error {
	_, err := call[Device](ctx, c, "PATCH", device(handle), ch)
	return err
}

// Tell confirms that a step was done.
func (c *Client) Tell(ctx context.Context, handle, step string) error {
	_, err := call[struct{}](ctx, c, "POST", device(handle)+"/told", map[string]string{"step": step})
	return err
}

// Ask has a device ask its owner to let this bench in.
func (c *Client) Ask(ctx context.Context, handle string) (Job, error) {
	return call[Job](ctx, c, "POST", device(handle)+"/admission", struct{}{})
}

// InstallDriver installs the driver set to which somebody consented.
func (c *Client) InstallDriver(ctx context.Context, handle string, d DriverConsent) (Job, error) {
	return call[Job](ctx, c, "POST", device(handle)+"/driver", d)
}

// DriverCandidates asks for the driver sets that may be used for a device, the best first.
func (c *Client) DriverCandidates(ctx context.Context, handle string, sel ...Select) ([]DriverCandidate, error) {
	return list[DriverCandidate](ctx, c, device(handle)+"/drivers", nil, sel)
}

// DropDriver takes the driver that is bound to a device's link off its host.
func (c *Client) DropDriver(ctx context.Context, handle string) error {
	_, err := call[struct{}](ctx, c, "DELETE", device(handle)+"/driver", nil)
	return err
}

// Round groups the devices by what they need next.
func (c *Client) Round(ctx context.Context, app string) (Round, error) {
	return call[Round](ctx, c, "GET", api+"/round?app="+url.QueryEscape(app), nil)
}

// OpenPhone has the bench serve one device's page for a phone.
func (c *Client) OpenPhone(ctx context.Context, ask PhoneAsk) (Phone, error) {
	return call[Phone](ctx, c, "POST", api+"/phone", ask)
}

// Phone tells of the page for a phone that is served.
func (c *Client) Phone(ctx context.Context) (Phone, error) {
	return call[Phone](ctx, c, "GET", api+"/phone", nil)
}

// ClosePhone ends the page for a phone.
func (c *Client) ClosePhone(ctx context.Context) error {
	_, err := call[struct{}](ctx, c, "DELETE", api+"/phone", nil)
	return err
}

// AddDevice puts a device on the rack that no bus shows.
func (c *Client) AddDevice(ctx context.Context, d NewDevice) (Device, error) {
	return call[Device](ctx, c, "POST", api+"/devices", d)
}

// Find has a device show its handle.
func (c *Client) Find(ctx context.Context, handle string) error {
	_, err := call[struct{}](ctx, c, "POST", device(handle)+"/find", struct{}{})
	return err
}

// Retirement tells what is to be done to retire a device.
func (c *Client) Retirement(ctx context.Context, handle string) (Retirement, error) {
	return call[Retirement](ctx, c, "GET", device(handle)+"/retirement", nil)
}

// Retire begins to retire a device.
func (c *Client) Retire(ctx context.Context, handle string) (Retirement, error) {
	return call[Retirement](ctx, c, "POST", device(handle)+"/retirement", struct{}{})
}

// DropDevice forgets a device that is not connected.
func (c *Client) DropDevice(ctx context.Context, handle string) error {
	_, err := call[struct{}](ctx, c, "DELETE", device(handle), nil)
	return err
}

// StopApp stops an app on a device.
func (c *Client) StopApp(ctx context.Context, handle, app string) error {
	_, err := call[struct{}](ctx, c, "POST", device(handle)+"/apps/stop", map[string]string{"app": app})
	return err
}

// RemoveApp removes an app from a device.
func (c *Client) RemoveApp(ctx context.Context, handle, app string) error {
	_, err := call[struct{}](ctx, c, "POST", device(handle)+"/apps/remove", map[string]string{"app": app})
	return err
}

// CallOffRetirement calls retiring a device off.
func (c *Client) CallOffRetirement(ctx context.Context, handle string) error {
	_, err := call[struct{}](ctx, c, "DELETE", device(handle)+"/retirement", nil)
	return err
}

// TellRetirement says that a thing was done that the bench cannot see.
func (c *Client) TellRetirement(ctx context.Context, handle, step string) error {
	_, err := call[struct{}](ctx, c, "POST", device(handle)+"/retirement/told", map[string]string{"step": step})
	return err
}

// Tellable lists what a person may state of a device.
func (c *Client) Tellable(ctx context.Context, handle string, sel ...Select) ([]Tellable, error) {
	return list[Tellable](ctx, c, device(handle)+"/tellable", nil, sel)
}

// Check looks at the bench's own computer.
func (c *Client) Check(ctx context.Context, sel ...Select) ([]Check, error) {
	return list[Check](ctx, c, api+"/check", nil, sel)
}

// Drivers lists the driver sets.
func (c *Client) Drivers(ctx context.Context, sel ...Select) ([]DriverSet, error) {
	return list[DriverSet](ctx, c, api+"/drivers", nil, sel)
}

// AddDriver gives the bench a driver set's file.
func (c *Client) AddDriver(ctx context.Context, file io.Reader) (DriverSet, error) {
	var d DriverSet
	res, err := c.send(ctx, "POST", api+"/drivers", file, "application/octet-stream")
	if err != nil {
		return d, err
	}
	defer res.Body.Close()
	return d, json.NewDecoder(res.Body).Decode(&d)
}

// Projects lists the projects.
func (c *Client) Projects(ctx context.Context, sel ...Select) ([]Project, error) {
	return list[Project](ctx, c, api+"/projects", nil, sel)
}

// AddProject lets the bench build from an app's directory.
func (c *Client) AddProject(ctx context.Context, dir string) (Project, error) {
	return call[Project](ctx, c, "POST", api+"/projects", map[string]string{"dir": dir})
}

// AppFiles lists the app files, newest first.
func (c *Client) AppFiles(ctx context.Context, sel ...Select) ([]AppFile, error) {
	return list[AppFile](ctx, c, api+"/apps", nil, sel)
}

// AddApp has the bench check an app file on its computer, and take it in.
func (c *Client) AddApp(ctx context.Context, path string) (AppFile, error) {
	return call[AppFile](ctx, c, "POST", api+"/apps", map[string]string{"path": path})
}

// Start starts a run or a tryout.
func (c *Client) Start(ctx context.Context, r Run) (Job, error) {
	return call[Job](ctx, c, "POST", api+"/runs", r)
}

// Jobs lists the newest jobs.
func (c *Client) Jobs(ctx context.Context, sel ...Select) ([]Job, error) {
	return list[Job](ctx, c, api+"/jobs", nil, sel)
}

// Job asks for a job.
func (c *Client) Job(ctx context.Context, id string) (Job, error) {
	return call[Job](ctx, c, "GET", api+"/jobs/"+url.PathEscape(id), nil)
}

// StopJob stops a job.
func (c *Client) StopJob(ctx context.Context, id string) error {
	_, err := call[struct{}](ctx, c, "POST", api+"/jobs/"+url.PathEscape(id)+"/stop", struct{}{})
	return err
}

// RepeatJob does again what a run or tryout did.
func (c *Client) RepeatJob(ctx context.Context, id string) (Job, error) {
	return call[Job](ctx, c, "POST", api+"/jobs/"+url.PathEscape(id)+"/repeat", struct{}{})
}

// Tryouts lists the newest tryouts, of a device where handle is not "".
func (c *Client) Tryouts(ctx context.Context, handle string, sel ...Select) ([]Tryout, error) {
	return list[Tryout](ctx, c, api+"/tryouts", url.Values{"device": {handle}}, sel)
}

// Tryout asks for a tryout.
func (c *Client) Tryout(ctx context.Context, id string) (Tryout, error) {
	return call[Tryout](ctx, c, "GET", api+"/tryouts/"+url.PathEscape(id), nil)
}

// Picture reads a tryout's picture, a PNG.
func (c *Client) Picture(ctx context.Context, id string) ([]byte, error) {
	res, err := c.send(ctx, "GET", api+"/tryouts/"+url.PathEscape(id)+"/picture.png", nil, "")
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	return io.ReadAll(res.Body)
}

// Events follows the events after a sequence until ctx ends or the bench does,
// and calls f for each.
func (c *Client) Events(ctx context.Context, after int64, f func(Event)) error {
	return follow(ctx, c, api+"/events?after="+strconv.FormatInt(after, 10), f)
}

// Log follows a device's log after a line, of an app or of all.
func (c *Client) Log(ctx context.Context, handle, app string, after uint64, f func(Line)) error {
	return follow(ctx, c, device(handle)+"/log?app="+url.QueryEscape(app)+"&after="+strconv.FormatUint(after, 10), f)
}

// follow reads server-sent events.
func follow[T any](ctx context.Context, c *Client, path string, f func(T)) error {
	res, err := c.send(ctx, "GET", path, nil, "")
	if err != nil {
		return err
	}
	defer res.Body.Close()
	lines := bufio.NewScanner(res.Body)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		data, ok := bytes.CutPrefix(lines.Bytes(), []byte("data: "))
		if !ok {
			continue
		}
		var v T
		if err := json.Unmarshal(data, &v); err != nil {
			return fmt.Errorf("decode an event: %w", err)
		}
		f(v)
	}
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	return lines.Err()
}
