package authority

import (
	"crypto/rand"
	"crypto/x509"
	"fmt"
	"io"
	"mime"
	"net/http"
	"time"

	"github.com/smallstep/pkcs7"

	"earlybench.invalid/earlybench/core/authority"
	"earlybench.invalid/earlybench/core/developer"
	"earlybench.invalid/earlybench/core/est"
)

// enrolmentGood is how long a one-time password for an enrolment is good.
const enrolmentGood = 10 * time.Minute

// enrolment is a one-time password.
type enrolment struct {
	crew, user string
	ends       time.Time
}

func (a *Authority) routeEST(m *http.ServeMux) {
	m.HandleFunc("GET /"+authority.ESTPath+"cacerts", func(w http.ResponseWriter, _ *http.Request) { answerCerts(w, a.ca.root) })
	m.HandleFunc("GET /"+authority.ESTPath+"csrattrs", func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusNoContent) })
	m.HandleFunc("POST /"+authority.ESTPath+"simpleenroll", a.enroll)
	m.HandleFunc("POST /"+authority.ESTPath+"simplereenroll", a.reenroll)
}

// enrolment gives a one-time password, with which a certificate can be enrolled.
func (a *Authority) enrolment(w http.ResponseWriter, r *http.Request, _ *crew) {
	e := authority.Enrolment{User: r.PathValue("crew"), Password: rand.Text(), Ends: a.now().Add(enrolmentGood)}
	for p, old := range a.enrolments {
		if a.now().After(old.ends) {
			delete(a.enrolments, p)
		}
	}
	a.enrolments[e.Password] = enrolment{r.PathValue("crew"), e.User, e.Ends}
	answerJSON(w, http.StatusOK, e)
}

// enroll answers a request with a one-time password (RFC 7030, section 4.2.1).
func (a *Authority) enroll(w http.ResponseWriter, r *http.Request) {
	csr, err := readRequest(r)
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	user, password, ok := r.BasicAuth()
	e, known := a.enrolments[password]
	if !ok || !known || e.user != user || a.now().After(e.ends) {
		w.Header().Set("WWW-Authenticate", `Basic realm="enrolment"`)
		http.Error(w, "the one-time password is not good", http.StatusUnauthorized)
		return
	}
	delete(a.enrolments, password)
	a.certify(w, e.crew, csr)
}

// reenroll renews by the certificate that ends (RFC 7030, section 4.2.2): the same name, which
// may have another key.
func (a *Authority) reenroll(w http.ResponseWriter, r *http.Request) {
	csr, err := readRequest(r)
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	if len(r.TLS.PeerCertificates) == 0 {
		http.Error(w, "show the certificate that is to be renewed", http.StatusUnauthorized)
		return
	}
	old := r.TLS.PeerCertificates[0]
	roots := x509.NewCertPool()
	roots.AddCert(a.ca.root)
	_, err = old.Verify(x509.VerifyOptions{Roots: roots, CurrentTime: a.now(), KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}})
	if err != nil || len(old.Subject.OrganizationalUnit) != 1 {
		http.Error(w, "the certificate is not one of this authority, or has ended", http.StatusForbidden)
		return
	}
	if csr.Subject.CommonName != old.Subject.CommonName {
		http.Error(w, "the name is another than the certificate's", http.StatusBadRequest)
		return
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	crew := old.Subject.OrganizationalUnit[0]
	if c := a.Crews[crew]; c == nil || !c.Certificates[est.Serial(old)].Revoked.IsZero() {
		http.Error(w, "the certificate was revoked", http.StatusForbidden)
		return
	}
	a.certify(w, crew, csr)
}

// certify issues a certificate, and answers with it; mu is held.
func (a *Authority) certify(w http.ResponseWriter, name string, csr *x509.CertificateRequest) {
	c := a.Crews[name]
	if c == nil {
		http.Error(w, "the crew is gone", http.StatusForbidden)
		return
	}
	cert, err := a.ca.issue(csr.Subject.CommonName, name, csr.PublicKey, a.now(), a.standing(c.Standing).CertificateDays)
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	if key, err := developer.PublicOf(csr.PublicKey); err == nil {
		c.Keys[est.Serial(cert)] = key.Thumbprint()
	}
	c.Certificates[est.Serial(cert)] = authority.Certificate{Serial: est.Serial(cert), Subject: cert.Subject.CommonName, Ends: cert.NotAfter.UTC()}
	if err := a.save(); err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	answerCerts(w, cert)
}

// readRequest reads a PKCS #10 in base64 (RFC 7030, section 4.2.1; RFC 8951, section 3).
func readRequest(r *http.Request) (*x509.CertificateRequest, error) {
	if kind, _, _ := mime.ParseMediaType(r.Header.Get("Content-Type")); kind != est.RequestType {
		return nil, fmt.Errorf("the body is application/pkcs10, not %.60q", kind)
	}
	raw, err := io.ReadAll(r.Body)
	if err != nil {
		return nil, fmt.Errorf("the request was not read: %w", err)
	}
	der, err := est.Decode(raw)
	if err != nil {
		return nil, fmt.Errorf("the request: %w", err)
	}
	csr, err := x509.ParseCertificateRequest(der)
	if err != nil {
		return nil, fmt.Errorf("the request is no PKCS #10: %w", err)
	}
	if err := csr.CheckSignature(); err != nil {
		return nil, fmt.Errorf("the request was not signed by its key: %w", err)
	}
	if csr.Subject.CommonName == "" {
		return nil, fmt.Errorf("the request names nobody")
	}
	return csr, nil
}

// answerCerts answers with certificates as a PKCS #7 without signers (RFC 7030, section 4.1.3).
func answerCerts(w http.ResponseWriter, certs ...*x509.Certificate) {
	var all []byte
	for _, c := range certs {
		all = append(all, c.Raw...)
	}
	der, err := pkcs7.DegenerateCertificate(all)
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", est.CertsType+"; smime-type=certs-only")
	w.Header().Set("Content-Transfer-Encoding", "base64")
	w.Write(est.Encode(der)) //nolint:errcheck // the caller has gone
}
