// Package holder is the process that holds an opened safe. The service talks to it over its
// standard input and output (JSON-RPC 2.0, one object a line); it is the only one that ever has
// private keys, passphrases and secrets in memory, and it ends when the safe is locked.
package holder

import (
	"context"
	"crypto"
	"crypto/rand"
	"crypto/rsa"
	_ "crypto/sha512" // for keys that sign by it
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/rpc"
	"earlybench.invalid/earlybench/core/safe"
	"earlybench.invalid/earlybench/internal/replace"
)

// Files of a safe in its directory.
const (
	LockName     = "safe-lock.age"
	ContentsName = "safe.age"
)

// Config is what a holder serves.
type Config struct {
	Dir  string
	Work int // scrypt's work factor for new passphrases; 0 stands for the usual
	Now  func() time.Time
}

// Serve answers on rw until it is closed by the other side, or ctx ends.
func Serve(ctx context.Context, rw io.ReadWriteCloser, cfg Config) error {
	key, err := safe.NewEnvelopeKey()
	if err != nil {
		return err
	}
	h := &holder{cfg: cfg, envelopes: key}
	c := rpc.New(rw, h.answer)
	defer c.Close()
	select {
	case <-c.Done():
	case <-ctx.Done():
	}
	return nil
}

type holder struct {
	cfg       Config
	envelopes *safe.EnvelopeKey

	mu  sync.Mutex // one request at a time
	box *safe.Box  // nil while it is locked
}

// Methods.
const (
	Hello        = "hello"
	Make         = "make"
	Unlock       = "unlock"
	Prove        = "prove"
	Change       = "change"
	Items        = "items"
	KeyMake      = "key.make"
	KeyTake      = "key.take"
	KeySign      = "key.sign"
	SecretPut    = "secret.put"
	Fill         = "fill"
	Drop         = "drop"
	PKCS12Import = "pkcs12.import"
	PKCS12Export = "pkcs12.export"
	Export       = "export"
	Import       = "import"
)

// Opening is how a safe is opened: by a passphrase in an envelope, or by the file of an unlock
// key, which the holder reads.
type Opening struct {
	Envelope []byte `json:"envelope,omitempty"`
	KeyFile  string `json:"key_file,omitempty"`
}

// Request are the parameters of all methods; each uses some of them.
type Request struct {
	Opening
	Purpose  string          `json:"purpose,omitempty"` // of the envelope, behind the method's name
	ID       string          `json:"id,omitempty"`
	Name     string          `json:"name,omitempty"`
	File     string          `json:"file,omitempty"` // a path
	Data     []byte          `json:"data,omitempty"`
	Chain    [][]byte        `json:"chain,omitempty"` // certificates in DER
	Hash     crypto.Hash     `json:"hash,omitempty"`
	PSS      *rsa.PSSOptions `json:"pss,omitempty"`
	Template string          `json:"template,omitempty"`
	// Secrets are the ids of the secrets that a template names.
	Secrets map[string]string `json:"secrets,omitempty"`
	Values  map[string]string `json:"values,omitempty"` // what else it names
}

// Answer is what all methods answer; each fills in some of it.
type Answer struct {
	Public       []byte      `json:"public,omitempty"` // by which envelopes are sealed
	Exists       bool        `json:"exists,omitempty"`
	ByPassphrase bool        `json:"by_passphrase,omitempty"`
	Item         *safe.Item  `json:"item,omitempty"`
	Items        []safe.Item `json:"items,omitempty"`
	Data         []byte      `json:"data,omitempty"`
	Chain        [][]byte    `json:"chain,omitempty"`
}

// EnvelopePurpose is what an envelope for a method is sealed for.
func EnvelopePurpose(method, purpose string) string { return method + " " + purpose }

func (h *holder) answer(_ context.Context, c *rpc.Conn, method string, params json.RawMessage) (any, error) {
	in, err := rpc.Decode[Request](params)
	if err != nil {
		return nil, err
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	out, err := h.do(method, &in)
	if err != nil {
		return nil, rpc.Errorf(codeOf(err), "%s", err.Error())
	}
	return out, nil
}

// Codes of this protocol, beside those of JSON-RPC.
const (
	CodeWrong    = 101 // the passphrase or unlock key
	CodeNotFound = 102
	CodeLocked   = 103
)

// ErrLocked is the error while no safe is open.
var ErrLocked = errors.New("the safe is locked")

func codeOf(err error) int {
	switch {
	case errors.Is(err, safe.ErrPassphrase), errors.Is(err, safe.ErrUnlockKey):
		return CodeWrong
	case errors.Is(err, safe.ErrNotFound):
		return CodeNotFound
	case errors.Is(err, ErrLocked):
		return CodeLocked
	}
	return rpc.CodeFailed
}

// do carries out a request.
func (h *holder) do(method string, in *Request) (Answer, error) {
	switch method {
	case Hello:
		return h.hello()
	case Make:
		return Answer{}, h.make(in)
	case Unlock:
		return Answer{}, h.unlock(in)
	case Prove:
		_, err := h.opened(in, Prove)
		return Answer{}, err
	}
	if h.box == nil {
		return Answer{}, ErrLocked
	}
	switch method {
	case Change:
		return Answer{}, h.lock(in, Change)
	case Items:
		return Answer{Items: h.box.Items()}, nil
	case KeySign:
		return h.sign(in)
	case Fill:
		return Answer{}, h.fill(in)
	case PKCS12Export, Export:
		return h.export(method, in)
	}
	out, err := h.alter(method, in)
	if err == nil {
		err = h.save()
	}
	return out, err
}

// alter carries out a request that changes the contents.
func (h *holder) alter(method string, in *Request) (out Answer, err error) {
	var item safe.Item
	now := h.cfg.Now()
	switch method {
	case KeyMake:
		item, err = h.box.MakeKey(in.Name, now)
	case KeyTake:
		item, err = h.take(in, now)
	case Drop:
		return out, h.box.Drop(in.ID)
	case SecretPut, PKCS12Import, Import:
		secret, err := h.envelopes.Open(EnvelopePurpose(method, in.Purpose), in.Envelope)
		if err != nil {
			return out, err
		}
		return h.takeIn(method, in, secret, now)
	default:
		return out, fmt.Errorf("there is no method %.40q", method)
	}
	out.Item = &item
	return out, err
}

func (h *holder) takeIn(method string, in *Request, secret []byte, now time.Time) (out Answer, err error) {
	var item safe.Item
	switch method {
	case SecretPut:
		item = h.box.PutSecret(in.Name, secret, now)
	case PKCS12Import:
		item, out.Chain, err = h.box.ImportPKCS12(in.Name, in.Data, secret, now)
	case Import:
		out.Items, err = h.box.Import(in.Data, secret)
		return out, err
	}
	out.Item = &item
	return out, err
}

func (h *holder) hello() (Answer, error) {
	lock, err := os.ReadFile(h.path(LockName))
	if errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	return Answer{Public: h.envelopes.Public(), Exists: lock != nil, ByPassphrase: safe.ByPassphrase(lock)}, err
}

func (h *holder) path(name string) string { return filepath.Join(h.cfg.Dir, name) }

// ErrExists is the error for a second safe.
var ErrExists = errors.New("there is already a safe")

func (h *holder) make(in *Request) error {
	if _, err := os.Stat(h.path(LockName)); err == nil {
		return ErrExists
	}
	box, err := safe.New()
	if err != nil {
		return err
	}
	h.box = box
	if err = h.save(); err == nil { // the lock last: without it there is no safe
		err = h.lock(in, Make)
	}
	if err != nil {
		h.box = nil
	}
	return err
}

// lock writes the lock, for a passphrase or an unlock key, whose file is made if there is none.
func (h *holder) lock(in *Request, method string) (err error) {
	var lock []byte
	if in.KeyFile != "" {
		file, err := readOrMakeKey(in.KeyFile)
		if err != nil {
			return err
		}
		if lock, err = h.box.LockByKey(file); err != nil {
			return err
		}
	} else {
		passphrase, err := h.envelopes.Open(EnvelopePurpose(method, in.Purpose), in.Envelope)
		if err != nil {
			return err
		}
		if lock, err = h.box.LockByPassphrase(passphrase, h.cfg.Work); err != nil {
			return err
		}
	}
	if err := replace.File(h.path(LockName), lock, 0o600); err != nil {
		return fmt.Errorf("write the safe's lock: %w", err)
	}
	return nil
}

func readOrMakeKey(path string) ([]byte, error) {
	file, err := os.ReadFile(path)
	if !errors.Is(err, fs.ErrNotExist) {
		return file, err
	}
	if file, err = safe.NewUnlockKey(); err != nil {
		return nil, err
	}
	return file, replace.File(path, file, 0o600)
}

// opened opens the lock and returns what is in it.
func (h *holder) opened(in *Request, method string) ([]byte, error) {
	lock, err := os.ReadFile(h.path(LockName))
	if err != nil {
		return nil, fmt.Errorf("read the safe's lock: %w", err)
	}
	if in.KeyFile != "" {
		file, err := os.ReadFile(in.KeyFile)
		if err != nil {
			return nil, fmt.Errorf("read the unlock key: %w", err)
		}
		return safe.OpenByKey(lock, file)
	}
	if !safe.ByPassphrase(lock) {
		return nil, fmt.Errorf("the safe is opened with an unlock key, not with a passphrase: %w", safe.ErrPassphrase)
	}
	passphrase, err := h.envelopes.Open(EnvelopePurpose(method, in.Purpose), in.Envelope)
	if err != nil {
		return nil, err
	}
	return safe.OpenByPassphrase(lock, passphrase)
}

func (h *holder) unlock(in *Request) error {
	text, err := h.opened(in, Unlock)
	if err != nil {
		return err
	}
	sealed, err := os.ReadFile(h.path(ContentsName))
	if err != nil {
		return fmt.Errorf("read the safe: %w", err)
	}
	h.box, err = safe.Open(text, sealed)
	return err
}

// save writes the contents. If that fails, what is in memory would differ from the file, and
// the safe is locked.
func (h *holder) save() error {
	sealed, err := h.box.Seal()
	if err == nil {
		err = replace.File(h.path(ContentsName), sealed, 0o600)
	}
	if err != nil {
		h.box = nil
		return fmt.Errorf("write the safe, which is locked now: %w", err)
	}
	return nil
}

func (h *holder) sign(in *Request) (Answer, error) {
	key, err := h.box.Signer(in.ID)
	if err != nil {
		return Answer{}, err
	}
	if in.Hash != 0 && (!in.Hash.Available() || in.Hash.Size() != len(in.Data)) {
		return Answer{}, errors.New("what is to be signed is not a digest of the hash that is named")
	}
	var opts crypto.SignerOpts = in.Hash
	if in.PSS != nil {
		opts = in.PSS
	}
	out, err := key.Sign(rand.Reader, in.Data, opts)
	return Answer{Data: out}, err
}

func (h *holder) export(method string, in *Request) (out Answer, err error) {
	secret, err := h.envelopes.Open(EnvelopePurpose(method, in.Purpose), in.Envelope)
	if err != nil {
		return out, err
	}
	if method == Export {
		out.Data, err = h.box.Export(secret, h.cfg.Work)
	} else {
		out.Data, err = h.box.ExportPKCS12(in.ID, in.Chain, secret)
	}
	return out, err
}
