package peer

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"sync"
	"time"

	"earlybench.invalid/earlybench/core/introduction"
	"earlybench.invalid/earlybench/core/peer"
	"earlybench.invalid/earlybench/core/plain"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/rpc"
	"earlybench.invalid/earlybench/internal/store"
)

// introducesFor is how long the people of both benches have.
const introducesFor = 5 * time.Minute

// asking is a bench that is being introduced to this one.
type asking struct {
	link       *peer.Link
	claimed    string // its name, as it has sent it
	own        string // this bench's name, as it was told
	commitment []byte
	nonce      []byte
	words      introduction.Words
	step       int // messages that have come
	until      time.Time
	answer     chan bool // of the owner; buffered
	end        func(failed bool)
}

// AskingBench is a bench that wants to become a peer of this one.
type AskingBench struct {
	Name  string // its own claim
	Key   string // fingerprint
	Words string // which this bench shows, and its person types; "" before they are known
	Typed bool   // it has said that its person has typed them: the owner is to answer
	Until time.Time
}

// Asking returns the bench that is being introduced to this one; false for none.
func (p *Peers) Asking() (AskingBench, bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	a := p.asking
	if a == nil {
		return AskingBench{}, false
	}
	out := AskingBench{Name: plain.Cut(plain.Line(a.claimed), 60), Key: a.link.Key(), Typed: a.step == 3, Until: a.until}
	if a.step >= 2 {
		out.Words = a.words.String()
	}
	return out, true
}

// Answer is the owner's answer to the bench with a key that asks: whether it becomes a peer.
func (p *Peers) Answer(key string, accept bool) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	a := p.asking
	if a == nil || a.link.Key() != key {
		return &problem.Problem{Kind: problem.NotFound, Text: "That bench no longer asks to become a peer.", Remedy: "See which benches ask: earlybench peer"}
	}
	if accept && a.step != 3 {
		return &problem.Problem{Kind: problem.Blocked, Text: "Its owner has not typed the three words yet, so it is not known whether it is that bench.", Remedy: "Tell its owner the words, then answer again."}
	}
	select {
	case a.answer <- accept:
	default:
	}
	return nil
}

// introduces reports whether a visitor is being introduced.
func (p *Peers) introduces(l *peer.Link) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.asking != nil && p.asking.link == l && p.cfg.Clock.Now().Before(p.asking.until)
}

// endAsking ends the introduction of a visitor who has gone.
func (p *Peers) endAsking(l *peer.Link) {
	p.mu.Lock()
	a := p.asking
	if a == nil || a.link != l {
		p.mu.Unlock()
		return
	}
	p.asking = nil
	p.mu.Unlock()
	a.end(true)
	p.tell()
}

// introduced answers the messages of an introduction (docs/formats/introduction.md), in their order.
func (p *Peers) introduced(ctx context.Context, l *peer.Link, method string, params json.RawMessage) (any, error) {
	if method == peer.MethodBegin {
		return p.begins(l, params)
	}
	p.mu.Lock()
	a := p.asking
	next := map[string]int{peer.MethodReveal: 1, peer.MethodTyped: 2}[method]
	if a == nil || a.link != l || a.step != next {
		p.mu.Unlock()
		p.endAsking(l)
		return nil, rpc.Errorf(rpc.CodeFailed, "%s is not the next message", method)
	}
	a.step++
	p.mu.Unlock()
	if method == peer.MethodReveal {
		return nil, p.reveals(l, a, params)
	}
	p.tell()
	ctx, cancel := context.WithDeadline(ctx, time.Now().Add(introducesFor))
	defer cancel()
	select {
	case <-ctx.Done():
		p.endAsking(l)
		return peer.Typed{}, nil
	case accepted := <-a.answer:
		if accepted {
			if err := p.admit(ctx, l, a.claimed, store.PeerRights{}, ""); err != nil {
				p.cfg.Log.Error("keep a peer that was introduced", "error", err)
				return nil, rpc.Errorf(rpc.CodeFailed, "it cannot be kept now")
			}
		}
		p.mu.Lock()
		p.asking = nil
		p.mu.Unlock()
		a.end(false)
		p.tell()
		return peer.Typed{Accepted: accepted}, nil
	}
}

func (p *Peers) begins(l *peer.Link, params json.RawMessage) (any, error) {
	b, err := rpc.Decode[peer.Begin](params)
	if err != nil {
		return nil, err
	}
	if b.Version != introduction.Version || len(b.Name) > introduction.MostText || len(b.Commitment) != introduction.NonceSize {
		return nil, rpc.Errorf(rpc.CodeInvalidParams, "the version, the name or the commitment is not valid")
	}
	p.mu.Lock()
	if p.asking != nil && p.asking.link == l {
		p.mu.Unlock()
		p.endAsking(l)
		return nil, rpc.Errorf(rpc.CodeFailed, "a session allows one introduction")
	}
	p.mu.Unlock()
	end, err := p.turns.Begin(p.cfg.Clock.Now())
	if paused, ok := errors.AsType[*introduction.PausedError](err); ok {
		return nil, rpc.Errorf(rpc.CodePaused, "three introductions in a row have failed; the next one is possible in %s", paused.For.Round(time.Second))
	}
	if err != nil {
		return nil, rpc.Errorf(rpc.CodeBusy, "%s", err)
	}
	var once sync.Once
	a := &asking{link: l, claimed: b.Name, own: p.cfg.Bench(), step: 1, commitment: b.Commitment, nonce: make([]byte, introduction.NonceSize), until: p.cfg.Clock.Now().Add(introducesFor),
		answer: make(chan bool, 1), end: func(failed bool) { once.Do(func() { end(p.cfg.Clock.Now(), failed) }) }}
	_, _ = rand.Read(a.nonce) // it never fails
	p.mu.Lock()
	p.asking = a
	p.mu.Unlock()
	return peer.Begun{Nonce: a.nonce, Name: a.own}, nil
}

func (p *Peers) reveals(l *peer.Link, a *asking, params json.RawMessage) error {
	r, err := rpc.Decode[peer.Reveal](params)
	if err == nil {
		err = introduction.Reveal(a.commitment, r.Nonce)
	}
	if err != nil {
		p.endAsking(l)
		return rpc.Errorf(rpc.CodeCommitment, "%s", err)
	}
	words := wordsOf(r.Nonce, a.nonce, l.SessionID(), l.Own(), l.Key(), a.claimed, a.own)
	p.mu.Lock()
	a.words = words
	p.mu.Unlock()
	p.tell()
	return nil
}

// wordsOf are the words of an introduction of one bench to another, which answers.
func wordsOf(nonce, answers, session []byte, answering, asking, name, answeringName string) introduction.Words {
	return introduction.Exchange{BenchNonce: nonce, DeviceNonce: answers, SessionID: session, DeviceKey: answering, BenchKey: asking, Bench: name,
		Device: introduction.Description{Name: answeringName, Family: "bench", Model: "bench"}}.Words()
}
