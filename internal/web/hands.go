package web

import (
	"context"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"earlybench.invalid/earlybench/client"
	eb "earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/access"
	"earlybench.invalid/earlybench/internal/lend"
)

// OfHands names what a path does. It is exported so that huma reads it where it is embedded.
type OfHands struct {
	Hands string `path:"hands" maxLength:"60" doc:"id of the request for hands"`
}

func (s *Server) handsRoutes() {
	a := s.api
	huma.Register(a, operation(access.Look, "GET", "/hands", "hands-requests", "Requests to people near lent devices, who can reach them with their hands, here and at peers"), func(_ context.Context, in *struct{ Select }) (*out[client.List[client.Hands]], error) {
		return handsList.of(in.Select, each(s.Lend.Hands(), s.handsOf))
	})
	huma.Register(a, operation(access.Look, "GET", "/hands/{hands}", "hands", "A request for hands; when the page for a phone reads it, it counts as seen"), func(ctx context.Context, in *OfHands) (*out[client.Hands], error) {
		if access.From(ctx).Kind == access.PhoneKind {
			return s.handsOut(s.Lend.Seen(ctx, in.Hands))
		}
		return s.handsOut(s.Lend.FindHands(in.Hands))
	})
	huma.Register(a, operation(access.Use, "POST", "/loans/{loan}/hands", "ask-for-hands", "Ask somebody near a borrowed device to do something"), func(ctx context.Context, in *struct {
		Loan string `path:"loan" maxLength:"60" doc:"id, or the handle of its device"`
		Body client.NewHands
	}) (*out[client.Hands], error) {
		title, text, err := s.wanted(in.Loan, in.Body)
		if err != nil {
			return nil, problem(err)
		}
		return s.handsOut(s.Lend.AskForHands(ctx, in.Loan, title, text))
	})
	huma.Register(a, operation(access.Use, "POST", "/hands/{hands}/answer", "answer-hands", "Answer a request for hands: it is done, or cannot be done"), func(ctx context.Context, in *struct {
		OfHands
		Body client.HandsAnswer
	}) (*out[client.Hands], error) {
		by := access.From(ctx)
		name := by.Name
		if by.Kind == access.PhoneKind {
			name = "whoever is near"
		}
		return s.handsOut(s.Lend.AnswerHands(ctx, in.Hands, name, in.Body.Done, in.Body.Note))
	})
	withdraw := operation(access.Use, "DELETE", "/hands/{hands}", "withdraw-hands", "Withdraw a request for hands")
	withdraw.DefaultStatus = http.StatusNoContent
	huma.Register(a, withdraw, func(ctx context.Context, in *OfHands) (*struct{}, error) {
		return nil, problem(s.Lend.WithdrawHands(ctx, in.Hands))
	})
}

// wanted is what somebody near a device should do: the given text, or the next step of the device.
func (s *Server) wanted(device string, n client.NewHands) (title, text string, err error) {
	if n.Title != "" {
		return n.Title, n.Text, nil
	}
	k, err := s.Rack.Find(device)
	if err != nil {
		return "", "", eb.Errorf(eb.Invalid, "it does not say what to do")
	}
	if step := s.Lend.StepThere(device); step != "" {
		return step, "", nil
	}
	next := deviceOf(s.Outlook.Look(k, "")).Next
	if next == nil || next.Who != "hands" {
		return "", "", &eb.Problem{Kind: eb.Invalid, Text: device + " needs no hands now.", Remedy: "Say what to do: earlybench hands ask " + device + " --title TEXT"}
	}
	if next.Text == next.Title {
		return next.Title, "", nil
	}
	return next.Title, next.Text, nil
}

func (s *Server) handsOut(h lend.HandsOf, err error) (*out[client.Hands], error) {
	if err != nil {
		return nil, problem(err)
	}
	return &out[client.Hands]{s.handsOf(h)}, nil
}

func (s *Server) handsOf(h lend.HandsOf) client.Hands {
	o := client.Hands{ID: h.ID, Device: h.Loan.Handle, Peer: h.Loan.Peer, Lent: h.Loan.Lent, Title: h.Title, Text: h.Text, State: string(h.State), By: h.By, Note: h.Note, Asked: h.Asked.UTC(), Answered: when(h.Answered)}
	if k := s.Rack.ByID(h.Loan.Device); k != nil {
		o.Device = k.Device().Handle
	}
	return o
}

// handsOfLoan are those of one loan.
func (s *Server) handsOfLoan(id string) []client.Hands {
	all := slices.DeleteFunc(s.Lend.Hands(), func(h lend.HandsOf) bool { return h.Loan.ID != id })
	return append([]client.Hands{}, each(all, s.handsOf)...)
}
