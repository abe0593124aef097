package standin

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"fmt"
	"net/http"

	"earlybench.invalid/earlybench/core/authority"
	"earlybench.invalid/earlybench/core/statement"
	"earlybench.invalid/earlybench/standin/body"
)

// Authority is where devices enter themselves in the register of their crew.
//
// Its keys are those by which devices check grants and debug tokens, as their maker built them in.
type Authority struct {
	statement.Authority
	URL  string `json:"url"`
	Root []byte `json:"root"` // certificate in DER by which its TLS is trusted
}

// enter returns how a device enters itself; nil without an authority.
func (a *Authority) enter(serial, model string) func(context.Context, string) error {
	if a == nil {
		return nil
	}
	return func(ctx context.Context, number string) error {
		root, err := x509.ParseCertificate(a.Root)
		if err != nil {
			return err
		}
		pool := x509.NewCertPool()
		pool.AddCert(root)
		raw, err := json.Marshal(authority.Entrance{Number: number, Serial: serial, Model: model})
		if err != nil {
			return err
		}
		r, err := http.NewRequestWithContext(ctx, http.MethodPost, a.URL+authority.EnterPath, bytes.NewReader(raw))
		if err != nil {
			return err
		}
		c := http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}, DisableKeepAlives: true}}
		res, err := c.Do(r)
		if err != nil {
			return err
		}
		defer res.Body.Close()
		switch res.StatusCode {
		case http.StatusOK, http.StatusCreated:
			return nil
		case http.StatusNotFound:
			return body.ErrCrew
		}
		return fmt.Errorf("the authority answers %s", res.Status)
	}
}

// checker is whose statements devices take.
func (a *Authority) checker() statement.Authority {
	if a == nil {
		return statement.Authority{}
	}
	return a.Authority
}
