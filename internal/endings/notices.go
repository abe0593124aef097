package endings

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"earlybench.invalid/earlybench/core/ending"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/outside"
	"earlybench.invalid/earlybench/internal/spawn"
	"earlybench.invalid/earlybench/internal/store"
)

// Channels by which notices go.
const (
	Console = "console" // the pages and commands of the bench
	Webhook = "webhook"
	Command = "command"
)

// Notify is where notices go beside the console.
type Notify struct {
	Webhook string   `json:"webhook"` // address; "" for none
	Secret  string   `json:"secret"`  // by which the webhook's messages are signed: whsec_ and base64
	Command []string `json:"command"` // a program with its arguments; none for no command
	// Trouble is why a notice did not go out the last time; "" for nothing.
	Trouble string `json:"-"`
}

const notifySetting = "endings.notify"

// secretPrefix begins a secret of Standard Webhooks.
const secretPrefix = "whsec_"

// Notify is where notices go.
func (e *Endings) Notify(ctx context.Context) (n Notify, err error) {
	text, err := e.cfg.Store.Setting(ctx, notifySetting)
	if err != nil || text == "" {
		return n, err
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	if err := json.Unmarshal([]byte(text), &n); err != nil { // it stops nothing, and is told wherever this is asked
		return Notify{Trouble: fmt.Sprintf("the settings for notices cannot be read (%v): set them again", err)}, nil
	}
	n.Trouble = e.trouble
	return n, nil
}

// SetNotify sets where notices go. Each new address of the webhook gets a new secret.
func (e *Endings) SetNotify(ctx context.Context, webhook string, command []string) (Notify, error) {
	now, err := e.Notify(ctx)
	if err != nil {
		return now, err
	}
	if webhook != "" {
		if _, _, err := target(webhook); err != nil {
			return now, err
		}
	}
	if len(command) > 0 && !filepath.IsAbs(command[0]) {
		return now, problem.Errorf(problem.Invalid, "command %.100q: give the program's full path", command[0])
	}
	if webhook != now.Webhook {
		now.Secret = ""
	}
	if webhook != "" && now.Secret == "" {
		key := make([]byte, 32)
		rand.Read(key) //nolint:errcheck // it never fails
		now.Secret = secretPrefix + base64.StdEncoding.EncodeToString(key)
	}
	now.Webhook, now.Command = webhook, command
	raw, err := json.Marshal(now)
	if err != nil {
		return now, err
	}
	if err := e.cfg.Store.SetSetting(ctx, notifySetting, string(raw)); err != nil {
		return now, fmt.Errorf("keep where notices go: %w", err)
	}
	e.Again()
	return now, nil
}

// target parts the address of a webhook in its service and the path there.
func target(address string) (base, path string, err error) {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" {
		return "", "", problem.Errorf(problem.Invalid, "webhook %.120q is invalid: write it as https://NAME/PATH", address)
	}
	path = strings.TrimPrefix(u.EscapedPath(), "/")
	if u.RawQuery != "" {
		path += "?" + u.RawQuery
	}
	base = u.Scheme + "://" + u.Host + "/"
	if u.User != nil {
		base = u.Scheme + "://" + u.User.String() + "@" + u.Host + "/" // refused, with its reason
	}
	_, err = outside.Address(base)
	return base, path, err
}

const (
	noticeEvery  = time.Minute
	noticeWithin = 20 * time.Second // for a command, and for all attempts at a webhook
)

// Again makes Run look now.
func (e *Endings) Again() {
	select {
	case e.wake <- struct{}{}:
	default:
	}
}

// Run tells of what ends soon, once for each term and channel, until ctx ends.
func (e *Endings) Run(ctx context.Context) {
	for {
		err := e.tell(ctx)
		e.mu.Lock()
		e.trouble = ""
		if err != nil {
			e.trouble = err.Error()
		}
		e.mu.Unlock()
		if err != nil && ctx.Err() == nil {
			e.cfg.Log.Warn("tell of what ends", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-e.wake:
		case <-time.After(noticeEvery):
		}
	}
}

// tell tells what was not told yet. A channel that fails keeps nothing from the others, and is tried
// again the next time.
func (e *Endings) tell(ctx context.Context) error {
	all, err := e.All(ctx)
	if err != nil {
		return err
	}
	to, err := e.Notify(ctx)
	if err != nil {
		return err
	}
	told, err := e.cfg.Store.Notices(ctx)
	if err != nil {
		return err
	}
	channels := map[string]func(context.Context, ending.Term) error{Console: func(context.Context, ending.Term) error { return nil }}
	if to.Webhook != "" {
		channels[Webhook] = func(ctx context.Context, t ending.Term) error { return e.post(ctx, to, t) }
	}
	if len(to.Command) > 0 {
		channels[Command] = func(ctx context.Context, t ending.Term) error { return e.run(ctx, to.Command, t) }
	}
	var failed error
	now := e.cfg.Clock.Now()
	for _, t := range ending.Due(all, now) {
		for name, send := range channels {
			n := store.Notice{Term: t.ID, State: string(t.At(now)), Channel: name}
			if _, done := told[n]; done {
				continue
			}
			if err := send(ctx, t); err != nil {
				failed = errors.Join(failed, fmt.Errorf("by %s: %w", name, err))
				continue
			}
			failed = errors.Join(failed, e.cfg.Store.SaveNotice(ctx, n, now))
		}
	}
	return failed
}

// event is a notice as a CloudEvent (CloudEvents 1.0, JSON format).
type event struct {
	SpecVersion string    `json:"specversion"`
	ID          string    `json:"id"`
	Source      string    `json:"source"`
	Type        string    `json:"type"`
	Subject     string    `json:"subject"`
	Time        time.Time `json:"time"`
	ContentType string    `json:"datacontenttype"`
	Data        notice    `json:"data"`
}

// notice is what is told of a term.
type notice struct {
	Bench   string    `json:"bench"`
	Kind    string    `json:"kind"`
	Name    string    `json:"name"`
	Holder  string    `json:"holder"`
	Devices []string  `json:"devices"`
	State   string    `json:"state"` // soon, or ended
	Ends    time.Time `json:"ends"`
	Stops   string    `json:"stops"`
	Step    string    `json:"step"`
	Command string    `json:"command"`
}

func (e *Endings) event(t ending.Term) ([]byte, string, error) {
	now := e.cfg.Clock.Now()
	state := string(t.At(now))
	id := t.ID + "-" + state // the same each time, so that a repeated one is known
	raw, err := json.Marshal(event{"1.0", id, "urn:earlybench:" + e.cfg.Bench(), "invalid.earlybench.ending." + state, t.ID, now.UTC(), "application/json",
		notice{e.cfg.Bench(), string(t.Kind), t.Name, t.Holder, append([]string{}, t.Devices...), state, t.Ends, t.Stops, t.Step, t.Command}})
	return raw, id, err
}

// post sends a notice to the webhook, signed as Standard Webhooks has it.
func (e *Endings) post(ctx context.Context, to Notify, t ending.Term) error {
	body, id, err := e.event(t)
	if err != nil {
		return err
	}
	base, path, err := target(to.Webhook)
	if err != nil {
		return err
	}
	c, err := outside.New(base, nil)
	if err != nil {
		return err
	}
	defer c.Close()
	answer, err := c.Do(ctx, outside.Request{Method: http.MethodPost, Path: path, Type: "application/cloudevents+json", Body: body, Limit: 64 << 10, Within: noticeWithin, Prepare: func(r *http.Request) error {
		at := strconv.FormatInt(time.Now().Unix(), 10) // the receiver compares it with its own clock
		signature, err := Sign(to.Secret, id, at, body)
		r.Header.Set("webhook-id", id)
		r.Header.Set("webhook-timestamp", at)
		r.Header.Set("webhook-signature", signature)
		return err
	}})
	if err != nil {
		return err
	}
	if answer.Status >= 300 {
		return problem.Errorf(problem.Failed, "%s answers %d %s", c.Host(), answer.Status, http.StatusText(answer.Status))
	}
	return nil
}

// Sign signs a message as Standard Webhooks has it: HMAC-SHA256 over id, time and body.
func Sign(secret, id, at string, body []byte) (string, error) {
	key, err := base64.StdEncoding.DecodeString(strings.TrimPrefix(secret, secretPrefix))
	if err != nil {
		return "", errors.New("the webhook's secret is not base64")
	}
	mac := hmac.New(sha256.New, key)
	mac.Write([]byte(id + "." + at + "."))
	mac.Write(body)
	return "v1," + base64.StdEncoding.EncodeToString(mac.Sum(nil)), nil
}

// run runs the command, which gets the notice on its standard input.
func (e *Endings) run(ctx context.Context, command []string, t ending.Term) error {
	body, _, err := e.event(t)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, noticeWithin)
	defer cancel()
	cmd := exec.CommandContext(ctx, command[0], command[1:]...)
	cmd.Stdin = strings.NewReader(string(body) + "\n")
	if printed, err := spawn.Run(cmd, 4<<10); err != nil {
		return fmt.Errorf("%s: %w: %s", command[0], err, printed)
	}
	return nil
}
