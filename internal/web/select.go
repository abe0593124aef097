package web

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"net/http"
	"slices"
	"strconv"

	"earlybench.invalid/earlybench/client"
	eb "earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/where"
)

// Select is what every list takes. It is exported so that huma reads it where it is
// embedded.
type Select struct {
	Where string `query:"where" maxLength:"2000" doc:"only items for which this CEL expression is true (docs/where.md)"`
	Limit int    `query:"limit" minimum:"0" maximum:"1000" doc:"the highest number of items; 0 for the usual number of the list"`
	After string `query:"after" maxLength:"200" doc:"only items after this one: the value of next in an answer"`
}

// listing is a kind of list: how expressions see its items, the id by which after names
// one, and how many are returned without a limit; 0 for all.
type listing[T any] struct {
	item *where.Item[T]
	id   func(T) string
	most int
}

func listingOf[T any](noun string, most int, id func(T) string) listing[T] {
	return listing[T]{where.Of[T](noun), id, most}
}

// The lists.
var (
	checkList        = listingOf("check", 0, func(x client.Check) string { return x.ID })
	unrecognisedList = listingOf("unrecognised", 0, func(x client.Unrecognised) string { return x.Name })
	projectList      = listingOf("project", 0, func(x client.Project) string { return x.App })
	appList          = listingOf("app", 0, func(x client.AppFile) string { return x.Digest })
	jobList          = listingOf("job", 100, func(x client.Job) string { return x.ID })
	tryoutList       = listingOf("tryout", 100, func(x client.Tryout) string { return x.ID })
	accessList       = listingOf("access", 0, func(x client.Access) string { return x.Name })
	auditList        = listingOf("line", 100, func(x client.AuditLine) string { return strconv.FormatInt(x.ID, 10) })
	sessionList      = listingOf("session", 0, func(x client.Session) string { return x.ID })
	tellableList     = listingOf("tellable", 0, func(x client.Tellable) string { return x.Key })
	hostList         = listingOf("host", 0, func(x client.Host) string { return x.Name })
	driverList       = listingOf("driver", 0, func(x client.DriverSet) string { return x.Digest })
	depotList        = listingOf("depot", 0, func(x client.Depot) string { return x.Name })
	kitList          = listingOf("kit", 0, func(x client.Kit) string { return x.Name })
	adapterList      = listingOf("adapter", 0, func(x client.Adapter) string { return x.Name })
	networkList      = listingOf("network", 0, func(x client.NetworkEntry) string { return x.Name })
	linkList         = listingOf("link", 0, func(x client.Link) string { return x.Device + "/" + x.Way + "/" + x.Host + "/" + x.Port })
	supportList      = listingOf("support", 0, func(x client.SupportPack) string { return x.Digest })
	candidateList    = listingOf("driver", 0, func(x client.DriverCandidate) string { return x.Digest })
	statementList    = listingOf("statement", 0, func(x client.Statement) string { return x.ID })
	appIDList        = listingOf("app", 0, func(x client.AppID) string { return x.ID })
	authorityList    = listingOf("authority", 0, func(x client.Authority) string { return x.Name })
	accountList      = listingOf("account", 0, func(x client.Account) string { return x.Authority + "/" + x.ID })
	identityList     = listingOf("identity", 0, func(x client.Identity) string { return x.Name + "/" + x.Serial })
	useList          = listingOf("use", 100, client.SafeUse.UseID)
	learnedList      = listingOf("learned", 0, func(x client.Learned) string { return x.Family + "/" + x.Host + "/" + x.Cause })
	factList         = listingOf("fact", 0, func(x client.Fact) string { return x.ID })
	historyList      = listingOf("fact", 200, func(x client.Fact) string { return x.ID })
	peerList         = listingOf("peer", 0, func(x client.Peer) string { return x.Name })
	farList          = listingOf("device", 0, func(x client.FarDevice) string { return x.Peer + "/" + x.Handle })
	handsList        = listingOf("hands", 0, func(x client.Hands) string { return x.ID })
	reservationList  = listingOf("reservation", 100, func(x client.Reservation) string { return x.ID })
	loanList         = listingOf("loan", 100, func(x client.Loan) string { return x.ID })
	sheetList        = listingOf("sheet", 0, func(x client.Sheet) string { return x.Sheet + "/" + x.Code })
)

// of returns what is selected from all items, in their order.
func (l listing[T]) of(sel Select, all []T) (*out[client.List[T]], error) {
	behind, err := l.behind(sel.After, all)
	if err != nil {
		return nil, problem(err)
	}
	return l.from(sel, without(behind))
}

// without makes a sequence without errors.
func without[T any](items []T) iter.Seq2[T, error] {
	return func(yield func(T, error) bool) {
		for _, item := range items {
			if !yield(item, nil) {
				return
			}
		}
	}
}

// behind returns the items after the one that after names.
func (l listing[T]) behind(after string, all []T) ([]T, error) {
	if after == "" {
		return all, nil
	}
	i := slices.IndexFunc(all, func(item T) bool { return l.id(item) == after })
	if i < 0 {
		return nil, noSuch(after)
	}
	return all[i+1:], nil
}

func noSuch(after string) error {
	return &eb.Problem{Kind: eb.Invalid, Text: "This list has no item " + strconv.Quote(after) + " to continue after.", Remedy: "Start over, without after."}
}

// from returns what is selected from a sequence that starts after the named item.
func (l listing[T]) from(sel Select, items iter.Seq2[T, error]) (*out[client.List[T]], error) {
	return selected(sel, l.most, l.item.Language, l.item.Value, func(item T) T { return item }, l.id, items)
}

// selected returns the items for which an expression is true. Only then its language is
// made, which takes a while. value returns the value of a
// variable for an item, and tell converts an item to what is returned.
func selected[I, T any](sel Select, most int, language func() (*where.Language, error), value func(I, string) (any, bool), tell func(I) T, id func(T) string,
	items iter.Seq2[I, error]) (*out[client.List[T]], error) {
	holds := func(I) (bool, error) { return true, nil }
	if sel.Where != "" {
		l, err := language()
		if err != nil {
			return nil, problem(err)
		}
		e, err := l.Compile(sel.Where)
		if err != nil {
			return nil, problem(badWhere(err))
		}
		holds = func(item I) (bool, error) {
			return e.Holds(func(name string) (any, bool) { return value(item, name) })
		}
	}
	if sel.Limit > 0 {
		most = sel.Limit
	}
	answer := list[T](nil)
	for item, err := range items {
		if err != nil {
			return nil, problem(err)
		}
		chosen, err := holds(item)
		if err != nil {
			return nil, problem(badWhere(err))
		}
		if !chosen {
			continue
		}
		if most > 0 && len(answer.Body.Items) == most {
			answer.Body.Next = id(answer.Body.Items[most-1])
			break
		}
		answer.Body.Items = append(answer.Body.Items, tell(item))
	}
	return answer, nil
}

// badWhere is the error for a wrong expression, with the position in it.
func badWhere(err error) error {
	p := &client.Problem{Status: http.StatusUnprocessableEntity, Kind: string(eb.Invalid), Detail: "The expression in where is invalid.",
		Remedy: "See docs/where.md or earlybench help where."}
	p.Title = http.StatusText(p.Status)
	if m, ok := errors.AsType[*where.Mistake](err); ok {
		text := m.Text
		if m.Hint != "" {
			text += " (" + m.Hint + ")"
		}
		p.Errors = []client.Invalid{{Message: text, Location: fmt.Sprintf("query.where:%d:%d", m.Line, m.Col)}}
		return p
	}
	p.Errors = []client.Invalid{{Message: err.Error(), Location: "query.where:1:1"}}
	return p
}

// paged makes a sequence of the items after one, which are read page by page: next returns
// the n items after an item.
func paged[T any](ctx context.Context, after string, id func(T) string, next func(ctx context.Context, after string, n int) ([]T, error)) iter.Seq2[T, error] {
	const page = 200
	return func(yield func(T, error) bool) {
		for {
			some, err := next(ctx, after, page)
			if err != nil {
				var none T
				yield(none, err)
				return
			}
			for _, item := range some {
				if !yield(item, nil) {
					return
				}
				after = id(item)
			}
			if len(some) < page {
				return
			}
		}
	}
}
