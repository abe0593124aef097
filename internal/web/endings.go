package web

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/ending"
	"earlybench.invalid/earlybench/internal/access"
	"earlybench.invalid/earlybench/internal/endings"
)

// calendarPath is where the calendar is, followed by its secret. Whoever has the address may read it:
// programs for calendars send neither cookies nor keys.
const calendarPath = "/calendar/"

func (s *Server) endingRoutes() {
	a := s.api
	huma.Register(a, operation(access.Look, "GET", "/endings", "endings", "What ends by itself, and what will not work at a time"), s.endings)
	huma.Register(a, operation(access.Own, "POST", "/endings/calendar", "calendar-address", "The address of the calendar of what ends"), func(ctx context.Context, in *struct {
		Body struct {
			Renew bool `json:"renew,omitempty" doc:"make a new secret, so that the old address stops working"`
		}
	}) (*struct {
		Body struct {
			URL string `json:"url"`
		}
	}, error) {
		key, err := s.Endings.CalendarKey(ctx, in.Body.Renew)
		if err != nil {
			return nil, problem(err)
		}
		out := &struct {
			Body struct {
				URL string `json:"url"`
			}
		}{}
		out.Body.URL = s.Address() + calendarPath + key + ".ics"
		return out, nil
	})
	huma.Register(a, operation(access.Own, "GET", "/endings/notify", "notify", "Where notices of endings go"), func(ctx context.Context, _ *none) (*out[client.Notify], error) {
		n, err := s.Endings.Notify(ctx)
		return notifyOf(n, err)
	})
	huma.Register(a, operation(access.Own, "PUT", "/endings/notify", "set-notify", "Set where notices of endings go"), func(ctx context.Context, in *out[client.Notify]) (*out[client.Notify], error) {
		n, err := s.Endings.SetNotify(ctx, in.Body.Webhook, in.Body.Command)
		return notifyOf(n, err)
	})
	op := operation(nobody, "GET", "", "calendar", "What ends, as iCalendar (RFC 5545); its address is the secret")
	op.Path = calendarPath + "{key}.ics"
	huma.Register(a, op, func(ctx context.Context, in *struct {
		Key string `path:"key" maxLength:"80"`
	}) (*struct {
		Type string `header:"Content-Type"`
		Body []byte
	}, error) {
		raw, err := s.Endings.Calendar(ctx, in.Key)
		if err != nil {
			return nil, problem(err)
		}
		return &struct {
			Type string `header:"Content-Type"`
			Body []byte
		}{"text/calendar; charset=utf-8", raw}, nil
	})
}

func notifyOf(n endings.Notify, err error) (*out[client.Notify], error) {
	if err != nil {
		return nil, problem(err)
	}
	return &out[client.Notify]{client.Notify{Webhook: n.Webhook, Command: append([]string{}, n.Command...), Secret: n.Secret, Trouble: n.Trouble}}, nil
}

func (s *Server) endings(ctx context.Context, in *struct {
	At time.Time `query:"at" doc:"the time to ask about; without it, now"`
}) (*out[client.Endings], error) {
	all, err := s.Endings.All(ctx)
	if err != nil {
		return nil, problem(err)
	}
	now := s.Clock.Now()
	at := in.At
	if at.IsZero() {
		at = now
	}
	f := ending.On(all, now, at)
	terms := func(all []ending.Term) []client.Term {
		return each(all, func(t ending.Term) client.Term { return termOf(t, now) })
	}
	return &out[client.Endings]{client.Endings{All: terms(all), At: at.UTC(), Stops: terms(f.Stops), Alone: terms(f.Alone), Others: terms(f.Others)}}, nil
}

func termOf(t ending.Term, now time.Time) client.Term {
	out := client.Term{ID: t.ID, Kind: string(t.Kind), Name: t.Name, Holder: t.Holder, Devices: append([]string{}, t.Devices...), Begins: when(t.Begins), Ends: when(t.Ends),
		State: string(t.At(now)), Mine: t.Mine, Alone: t.Alone, Stops: t.Stops, Step: t.Step, Command: t.Command}
	if !t.Ends.IsZero() {
		out.By = when(t.By())
	}
	return out
}
