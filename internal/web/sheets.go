package web

import (
	"context"
	"errors"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"earlybench.invalid/earlybench/client"
	eb "earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/sheet"
	"earlybench.invalid/earlybench/internal/access"
)

func (s *Server) sheetRoutes() {
	a := s.api
	huma.Register(a, operation(access.Look, "GET", "/sheets", "sheets", "The active prep sheets"), s.sheets)
	huma.Register(a, operation(access.Maintain, "POST", "/sheets", "add-sheet", "Check a sheet and add it to the bench"), s.addSheet)
	drop := silent(access.Maintain, "/sheets/{name}", "drop-sheet", "Remove a sheet that was added")
	drop.Method = http.MethodDelete
	huma.Register(a, drop, s.dropSheet)
	huma.Register(a, operation(access.Look, "GET", "/unrecognised/{name}/draft", "draft-sheet", "A commented draft of a sheet for an unrecognised device"), s.draft)
	huma.Register(a, operation(access.Look, "GET", "/devices/{handle}/sheet", "device-sheet", "The resulting sheet for a device, and which file each part comes from"), s.deviceSheet)
}

func (s *Server) sheets(_ context.Context, in *struct{ Select }) (*out[client.Sheets], error) {
	lib := s.Sheets.Current()
	var all []client.Sheet
	body := client.Sheets{Trouble: mistakes(s.Sheets.Trouble()), Dir: s.Sheets.Dir()}
	for _, series := range lib.All() {
		newest := series.Sheets[len(series.Sheets)-1]
		c := client.Sheet{Sheet: newest.Name, File: lib.File(newest.Name), Family: series.Family, Maker: series.Maker, Model: series.Model.Name,
			Code: series.Model.Code, Releases: []string{}, Languages: append([]string{}, newest.Languages()...),
			Steps: len(newest.Paths[0].Steps), Causes: len(newest.Causes), Checks: len(newest.Checks)}
		if series.Model.HasUSB() {
			c.USB = series.Model.USB.String()
		}
		for _, sh := range series.Sheets[1:] {
			c.Releases = append(c.Releases, string(sh.From))
		}
		if t := s.Sheets.Taken(c.File); !t.IsZero() {
			c.Own, c.Taken = true, when(t.UTC())
		}
		all = append(all, c)
	}
	chosen, err := sheetList.of(in.Select, all)
	if err != nil {
		return nil, err
	}
	body.Items, body.Next = chosen.Body.Items, chosen.Body.Next
	return &out[client.Sheets]{body}, nil
}

func mistakes(es sheet.Errors) []client.Mistake {
	out := []client.Mistake{}
	for _, e := range es {
		out = append(out, client.Mistake{File: e.File, Line: e.Line, Column: e.Col, Near: e.Near, Text: e.Text, Hint: e.Hint})
	}
	return out
}

func (s *Server) addSheet(ctx context.Context, in *struct {
	Body struct {
		Text string `json:"text" maxLength:"1048576"`
	}
}) (*out[client.AddedSheet], error) {
	file, err := s.Sheets.Add([]byte(in.Body.Text))
	if wrong, ok := errors.AsType[sheet.Errors](err); ok {
		return nil, &client.Problem{Status: http.StatusUnprocessableEntity, Title: "Unprocessable Entity", Detail: "The sheet has errors:\n" + wrong.Error(),
			Remedy: "See each error in its place: earlybench sheet check FILE."}
	}
	if err == nil {
		err = s.Sheets.Apply(ctx)
	}
	if err != nil {
		return nil, problem(err)
	}
	return &out[client.AddedSheet]{client.AddedSheet{File: file, Trouble: mistakes(s.Sheets.Trouble())}}, nil
}

func (s *Server) dropSheet(_ context.Context, in *struct {
	Name string `path:"name" maxLength:"120" doc:"the sheet's name, its / written as ~"`
}) (*struct{}, error) {
	err := s.Sheets.Drop(strings.ReplaceAll(in.Name, "~", "/"))
	if _, ok := errors.AsType[sheet.Errors](err); ok {
		return nil, &client.Problem{Status: http.StatusConflict, Title: "Conflict", Detail: sentence(err.Error()), Remedy: "Drop those first."}
	}
	return nil, problem(err)
}

func (s *Server) deviceSheet(ctx context.Context, in *OfDevice) (*out[client.DeviceSheet], error) {
	st, err := s.look(ctx, in)
	if err != nil {
		return nil, err
	}
	sh := st.Sheet
	body := client.DeviceSheet{Device: st.Device.Handle, Sheet: sh.Name, Model: strings.TrimSpace(sh.Maker + " " + sh.Model.Name), From: string(sh.From),
		Below: string(sh.Below), Paths: []string{}, Walk: append([]string{}, st.Readiness.Path.Walk...), Parts: []client.Part{}}
	for _, p := range sh.Paths {
		body.Paths = append(body.Paths, p.Name)
	}
	for _, p := range sh.Parts {
		body.Parts = append(body.Parts, client.Part{Kind: p.Kind, Name: p.Name, Text: sheet.Fill(p.Text, sh.Words("")), File: p.File, Line: p.Line})
	}
	return &out[client.DeviceSheet]{body}, nil
}

func (s *Server) draft(_ context.Context, in *struct {
	Name   string `path:"name" maxLength:"60"`
	Family string `query:"family" maxLength:"60" default:"newcomer" doc:"name of the new family"`
}) (*out[client.SheetDraft], error) {
	if !hostName.MatchString(in.Family) {
		return nil, problem(eb.Errorf(eb.Invalid, "family name %.60q is invalid: start with a lower-case letter, then use up to 39 letters, digits or hyphens", in.Family))
	}
	for _, x := range s.Rack.Unrecognised() {
		if x.Name == in.Name {
			text := sheet.Draft(sheet.Seen{Name: in.Family, USB: x.USB, Interfaces: x.Interfaces, Where: x.Port + " of " + x.Host})
			return &out[client.SheetDraft]{client.SheetDraft{Text: text}}, nil
		}
	}
	return nil, problem(eb.Errorf(eb.NotFound, "there is no unrecognised device %.60q", in.Name))
}
