package web

import (
	"encoding/json"
	"net/http"
	"strconv"

	"github.com/gofiber/fiber/v3"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/internal/web/httpd"
)

// This file holds what the pages for one browser have in common: a phone's, and that of a person without a bench. Each is
// served over TLS at its own address, which works once.

// strayed is the answer to a request that does not belong to the page served at a host; nil for none.
func strayed(c fiber.Ctx, host string) *client.Problem {
	origin := "https://" + host
	switch {
	case c.Host() != host:
		return &client.Problem{Status: http.StatusMisdirectedRequest, Detail: "This page answers only under its own address.", Remedy: "Open " + origin + "."}
	case c.Method() != http.MethodGet && c.Get(fiber.HeaderOrigin) != origin:
		return &client.Problem{Status: http.StatusForbidden, Detail: "Only the bench's own page may make changes here."}
	}
	return nil
}

// secretOf reads the one-time secret with which a browser signs in.
func secretOf(c fiber.Ctx) (string, error) {
	var in struct{ Secret string }
	raw, err := httpd.WholeBody(c, httpd.UnknownBody)
	if err != nil {
		return "", err
	}
	if err := json.Unmarshal(raw, &in); err != nil {
		return "", fiber.NewError(http.StatusBadRequest, "the secret is missing")
	}
	return in.Secret, nil
}

// letIn gives a browser the cookie by which it is known for some seconds.
func letIn(c fiber.Ctx, cookie, secret string, seconds int) error {
	c.Set(fiber.HeaderSetCookie, cookie+"="+secret+"; Path=/api; HttpOnly; Secure; SameSite=Strict; Max-Age="+strconv.Itoa(max(1, seconds)))
	return c.SendStatus(http.StatusNoContent)
}
