package web

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"earlybench.invalid/earlybench/client"
	eb "earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/access"
	"earlybench.invalid/earlybench/internal/store"
)

func (s *Server) loanRoutes() {
	a := s.api
	huma.Register(a, operation(access.Look, "GET", "/loans", "loans", "What is lent and borrowed: current loans first, then those that ended, latest first"), func(ctx context.Context, in *struct{ Select }) (*out[client.List[client.Loan]], error) {
		all, err := s.Lend.List(ctx)
		if err != nil {
			return nil, problem(err)
		}
		return loanList.of(in.Select, each(all, s.loanOf))
	})
	huma.Register(a, operation(access.Use, "POST", "/loans", "start-loan", "Borrow a device from a peer, waiting until it is free"), func(ctx context.Context, in *struct{ Body client.NewLoan }) (*out[client.Loan], error) {
		if in.Body.Exclusive {
			if in.Body.May == "look" {
				return nil, problem(eb.Errorf(eb.Invalid, "a device can only be borrowed with its USB for use"))
			}
			return s.loanOut(s.Lend.BorrowUSB(ctx, in.Body.Peer, in.Body.Device, time.Duration(in.Body.For)*time.Second))
		}
		may := in.Body.May
		if may == "" {
			may = "use"
		}
		return s.loanOut(s.Lend.Borrow(ctx, in.Body.Peer, in.Body.Device, may, time.Duration(in.Body.For)*time.Second, 0))
	})
	huma.Register(a, operation(access.Use, "POST", "/loans/{loan}/extend", "extend-loan", "Extend a loan"), func(ctx context.Context, in *struct {
		Loan string `path:"loan" maxLength:"60" doc:"id, or the handle of its device"`
		Body struct {
			For int64 `json:"for_seconds" minimum:"60" maximum:"2592000" doc:"from now"`
		}
	}) (*out[client.Loan], error) {
		return s.loanOut(s.Lend.Extend(ctx, in.Loan, time.Duration(in.Body.For)*time.Second))
	})
	huma.Register(a, operation(access.Use, "DELETE", "/loans/{loan}", "end-loan", "Return a borrowed device, or take back a lent one"), func(ctx context.Context, in *struct {
		Loan  string `path:"loan" maxLength:"60" doc:"id, or the handle of its device"`
		Grace int64  `query:"grace_seconds" minimum:"0" maximum:"86400" doc:"time that the borrower of a lent device still has"`
	}) (*out[client.Loan], error) {
		return s.loanOut(s.Lend.Finish(ctx, in.Loan, time.Duration(in.Grace)*time.Second))
	})
}

func (s *Server) loanOut(r store.Loan, err error) (*out[client.Loan], error) {
	if err != nil {
		return nil, problem(err)
	}
	return &out[client.Loan]{s.loanOf(r)}, nil
}

func (s *Server) loanOf(r store.Loan) client.Loan {
	out := client.Loan{ID: r.ID, Lent: r.Lent, State: string(r.State), Peer: r.Peer, Far: r.Handle, May: r.Rights, For: int64(r.Seconds), Asked: r.Asked.UTC(), Began: when(r.Began), Ends: when(r.Ends), Ended: when(r.Ended),
		Hands: s.handsOfLoan(r.ID), Place: r.Place, Wait: int64(r.Wait), In: r.In, Out: r.Out}
	out.Exclusive = r.Exclusive
	out.USB, out.BusID = s.Lend.USBOf(r.ID)
	if r.Reason != "" {
		out.Why = sentence(r.Reason)
	}
	if r.Away != "" && r.State == store.LoanActive {
		out.Away = sentence(r.Away)
	}
	if r.Left != "" {
		out.NotBack = sentence(r.Left)
	}
	if k := s.Rack.ByID(r.Device); k != nil {
		out.Device = k.Device().Handle
	}
	return out
}
