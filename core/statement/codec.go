package statement

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"

	"earlybench.invalid/earlybench/core/developer"
)

// MaxSize is the longest statement, in bytes.
const MaxSize = 64 << 10

// A Refused is a statement that is not to be relied on, and the rule of docs/formats/statement.md,
// "Reading", that it breaks.
type Refused struct {
	Rule int
	Text string
}

func (r *Refused) Error() string { return r.Text }

func refuse(rule int, format string, args ...any) error {
	return &Refused{rule, fmt.Sprintf(format, args...)}
}

// Authority is who has signed statements: its name, and its public keys.
type Authority struct {
	Name string             `json:"name"`
	Keys []developer.Public `json:"keys"`
}

// header is that of a statement.
type header struct {
	Alg  string `json:"alg"`
	Key  string `json:"kid"`
	Type Kind   `json:"typ"`
}

// encoding is base64url without padding and stray bits (RFC 4648, section 3.5).
var encoding = base64.RawURLEncoding.Strict()

// Read reads a grant or a debug token that the authority has signed.
func (a Authority) Read(text string) (*Statement, error) {
	head, payload, err := a.open(text)
	if err != nil {
		return nil, err
	}
	if head.Type != Grant && head.Type != DebugToken {
		return nil, refuse(2, "it is neither a grant nor a debug token")
	}
	s := &Statement{Kind: head.Type, Text: text}
	if err := decode(payload, s, 11); err != nil {
		return nil, refuse(4, "what it says is not understood: %s", err)
	}
	if err := s.check(); err != nil {
		return nil, refuse(4, "%s", err)
	}
	if s.Issuer != a.Name {
		return nil, refuse(5, "it says that it comes from %.60q, and the key is that of %s", s.Issuer, a.Name)
	}
	return s, nil
}

// ReadStatus reads a status list that the authority has signed.
func (a Authority) ReadStatus(text string) (*Status, error) {
	head, payload, err := a.open(text)
	if err != nil {
		return nil, err
	}
	if head.Type != StatusList {
		return nil, refuse(2, "it is not a status list")
	}
	s := &Status{Text: text}
	if err := decode(payload, s, 4); err != nil {
		return nil, refuse(4, "what it says is not understood: %s", err)
	}
	if err := s.check(); err != nil {
		return nil, refuse(4, "%s", err)
	}
	if s.Issuer != a.Name {
		return nil, refuse(5, "it says that it comes from %.60q, and the key is that of %s", s.Issuer, a.Name)
	}
	return s, nil
}

// open checks the signature and returns the payload.
func (a Authority) open(text string) (header, []byte, error) {
	var h header
	parts := strings.Split(text, ".")
	if len(text) > MaxSize || len(parts) != 3 {
		return h, nil, refuse(1, "it is not a signed statement in three parts, of 64 KiB at most")
	}
	var raw [3][]byte
	for i, p := range parts {
		var err error
		if raw[i], err = encoding.DecodeString(p); err != nil || strings.ContainsAny(p, "\r\n") {
			return h, nil, refuse(1, "part %d of it is not base64url as it should be", i+1)
		}
	}
	if err := decode(raw[0], &h, 3); err != nil {
		return h, nil, refuse(2, "its header is not understood: %s", err)
	}
	if h.Alg != "ES256" || !slices.Contains([]Kind{Grant, DebugToken, StatusList}, h.Type) {
		return h, nil, refuse(2, "its header names the algorithm %.20q and the type %.30q, which are not those of a statement", h.Alg, h.Type)
	}
	i := slices.IndexFunc(a.Keys, func(k developer.Public) bool { return k.Thumbprint() == h.Key })
	if i < 0 {
		return h, nil, refuse(3, "it was not signed by a key of %s", a.Name)
	}
	signed := text[:len(parts[0])+1+len(parts[1])]
	if err := a.Keys[i].VerifyBytes([]byte(signed), raw[2]); err != nil {
		return h, nil, refuse(3, "its signature does not fit: it was changed, or is not one of %s", a.Name)
	}
	return h, raw[1], nil
}

// KindOf tells what a text claims to be, without checking it; "" for no statement.
func KindOf(text string) Kind {
	head, _, _ := strings.Cut(text, ".")
	raw, err := encoding.DecodeString(head)
	var h header
	if err != nil || decode(raw, &h, 3) != nil {
		return ""
	}
	return h.Type
}

// IDOf tells the id that a text claims to have, without checking it.
func IDOf(text string) (string, error) {
	parts := strings.Split(text, ".")
	if len(text) > MaxSize || len(parts) != 3 {
		return "", errors.New("it is no signed statement")
	}
	raw, err := encoding.DecodeString(parts[1])
	if err != nil {
		return "", fmt.Errorf("read the statement: %w", err)
	}
	var s struct {
		ID string `json:"jti"`
	}
	if err := json.Unmarshal(raw, &s); err != nil || s.ID == "" {
		return "", errors.New("the statement has no id")
	}
	return s.ID, nil
}

// decode reads a JSON object with a given number of members, each once and no others.
func decode(raw []byte, v any, members int) error {
	if !utf8.Valid(raw) {
		return errors.New("it is not UTF-8")
	}
	names, err := memberNames(raw)
	if err != nil {
		return err
	}
	if len(names) != members {
		return fmt.Errorf("it has %d members, not %d", len(names), members)
	}
	d := json.NewDecoder(bytes.NewReader(raw))
	d.DisallowUnknownFields()
	if err := d.Decode(v); err != nil {
		return err
	}
	return exact(raw, v)
}

// memberNames are the names of an object's members, each of which occurs once.
func memberNames(raw []byte) (map[string]bool, error) {
	d := json.NewDecoder(bytes.NewReader(raw))
	if t, err := d.Token(); err != nil || t != json.Delim('{') {
		return nil, errors.New("it is not a JSON object")
	}
	names := map[string]bool{}
	for d.More() {
		t, err := d.Token()
		if err != nil {
			return nil, errors.New("it is not a JSON object")
		}
		name, _ := t.(string)
		if names[name] {
			return nil, fmt.Errorf("the member %.30q is there twice", name)
		}
		names[name] = true
		var value json.RawMessage
		if err := d.Decode(&value); err != nil {
			return nil, errors.New("it is not a JSON object")
		}
	}
	if _, err := d.Token(); err != nil {
		return nil, errors.New("it is not a JSON object")
	}
	if _, err := d.Token(); !errors.Is(err, io.EOF) {
		return nil, errors.New("something follows the object")
	}
	return names, nil
}

// exact reports whether v says all that raw says: Go's decoder takes members of other case for
// the same, null for nothing, and passes over members of inner objects that occur twice.
func exact(raw []byte, v any) error {
	again, err := json.Marshal(v)
	if err != nil {
		return err
	}
	var squeezed bytes.Buffer
	if err := json.Compact(&squeezed, raw); err != nil {
		return err
	}
	var one, other any
	if json.Unmarshal(again, &one) != nil || json.Unmarshal(squeezed.Bytes(), &other) != nil {
		return errors.New("it is not a JSON object")
	}
	if fmt.Sprint(one) != fmt.Sprint(other) || bytes.Count(again, []byte(`":`)) != bytes.Count(squeezed.Bytes(), []byte(`":`)) {
		return errors.New("it has members of other names or types, or too many")
	}
	return nil
}

// A Signer signs statements: a [developer.Key] is one.
type Signer interface {
	Public() developer.Public
	SignBytes(signed []byte) ([]byte, error)
}

// Sign signs a grant or a debug token; its Kind says which.
func Sign(s Statement, key Signer) (string, error) {
	if err := s.check(); err != nil {
		return "", fmt.Errorf("sign a statement: %w", err)
	}
	return sign(s.Kind, s, key)
}

// SignStatus signs a status list.
func SignStatus(s Status, key Signer) (string, error) {
	if err := s.check(); err != nil {
		return "", fmt.Errorf("sign a status list: %w", err)
	}
	return sign(StatusList, s, key)
}

func sign(kind Kind, v any, key Signer) (string, error) {
	head, err := json.Marshal(header{"ES256", key.Public().Thumbprint(), kind})
	if err != nil {
		return "", err
	}
	payload, err := json.Marshal(v)
	if err != nil {
		return "", err
	}
	signed := encoding.EncodeToString(head) + "." + encoding.EncodeToString(payload)
	signature, err := key.SignBytes([]byte(signed))
	if err != nil {
		return "", err
	}
	return signed + "." + encoding.EncodeToString(signature), nil
}
