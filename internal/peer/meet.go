package peer

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"slices"
	"time"

	"earlybench.invalid/earlybench/core/introduction"
	"earlybench.invalid/earlybench/core/peer"
	"earlybench.invalid/earlybench/core/plain"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/rpc"
)

// MeetingState is how far an introduction to another bench is.
type MeetingState string

// The states of an introduction.
const (
	Words      MeetingState = "words"  // the other bench shows three words, which are to be typed here
	Asked      MeetingState = "asked"  // its owner is asked
	Introduced MeetingState = "peer"   // it is a peer
	Failed     MeetingState = "failed" // Trouble says why
)

// Meeting is an introduction to another bench.
type Meeting struct {
	Name    string // the other bench's claim; the peer's name once it is one
	Key     string // fingerprint
	State   MeetingState
	Trouble error
	Until   time.Time // when it is given up
}

// meeting is the current introduction, or the last one.
type meeting struct {
	Meeting
	link        *peer.Link
	words       introduction.Words
	addresses   []string
	via, viaKey string
	as          string
	stop        context.CancelFunc
	typed       chan struct{}
}

// Meeting returns the current introduction, or the last one.
func (p *Peers) Meeting() (Meeting, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.meeting == nil {
		return Meeting{}, &problem.Problem{Kind: problem.NotFound, Text: "This bench is not being introduced to another one.", Remedy: "Start one: earlybench peer add HOST:PORT"}
	}
	return p.meeting.Meeting, nil
}

// Meet begins an introduction to the bench at an address: that shows three words. via is an SSH server through which
// it is reached, with the fingerprint of its key, or "". as is what the peer is called here; "" for what it calls itself.
func (p *Peers) Meet(ctx context.Context, address, via, viaKey, as string) (Meeting, error) {
	if err := peer.CheckAddress(address); err != nil {
		return Meeting{}, problem.Errorf(problem.Invalid, "%w", err)
	}
	if err := p.mayCall(as); err != nil {
		return Meeting{}, err
	}
	p.StopMeeting() //nolint:errcheck // there may be none
	ctx, cancel := context.WithTimeout(ctx, callWithin)
	defer cancel()
	l, end, err := p.dial(ctx, []string{address}, via, viaKey, func(string) error { return nil })
	if err != nil {
		if _, is := errors.AsType[*problem.Problem](err); is {
			return Meeting{}, err
		}
		return Meeting{}, problem.Errorf(problem.Unavailable, "reach the other bench: %w", err)
	}
	give := func(err error) (Meeting, error) { l.Close(); end(); return Meeting{}, err }
	if l.Key() == l.Own() {
		return give(problem.Errorf(problem.Invalid, "the bench at %s is this one", address))
	}
	if now, is := p.ByKey(l.Key()); is {
		return give(problem.Errorf(problem.Taken, "that bench is already a peer: %s", now.Name))
	}
	m, err := p.exchange(ctx, l.Link)
	if err != nil {
		return give(err)
	}
	m.addresses, m.via, m.viaKey, m.as = []string{address}, via, viaKey, as
	running, stop := context.WithTimeout(p.ctx, introducesFor)
	m.stop = stop
	p.mu.Lock()
	p.meeting = m
	out := m.Meeting
	p.mu.Unlock()
	p.work.Go(func() {
		defer end()
		defer l.Close()
		defer stop()
		p.await(running, m)
	})
	p.tell()
	return out, nil
}

// exchange exchanges nonces with the other bench.
func (p *Peers) exchange(ctx context.Context, l *peer.Link) (*meeting, error) {
	nonce := make([]byte, introduction.NonceSize)
	_, _ = rand.Read(nonce) // it never fails
	name := plain.Cut(p.cfg.Bench(), introduction.MostText)
	var b peer.Begun
	if err := l.Call(ctx, peer.MethodBegin, peer.Begin{Version: introduction.Version, Name: name, Commitment: introduction.Commitment(nonce)}, &b); err != nil {
		return nil, refusedIntroduction(err)
	}
	if len(b.Nonce) != introduction.NonceSize || len(b.Name) > introduction.MostText {
		return nil, errors.New("the other bench's answer is not valid")
	}
	if err := l.Call(ctx, peer.MethodReveal, peer.Reveal{Nonce: nonce}, nil); err != nil {
		return nil, refusedIntroduction(err)
	}
	return &meeting{link: l, words: wordsOf(nonce, b.Nonce, l.SessionID(), l.Key(), l.Own(), name, b.Name), typed: make(chan struct{}),
		Meeting: Meeting{Name: plain.Cut(plain.Line(b.Name), 60), Key: l.Key(), State: Words, Until: p.cfg.Clock.Now().Add(introducesFor)}}, nil
}

func refusedIntroduction(err error) error {
	e, ok := errors.AsType[*rpc.Error](err)
	switch {
	case !ok:
		return problem.Errorf(problem.Unavailable, "introduce this bench: %w", err)
	case e.Code == rpc.CodeBusy:
		return &problem.Problem{Kind: problem.Taken, Text: "Another bench is being introduced there now.", Remedy: "Try again in a few minutes."}
	case e.Code == rpc.CodePaused:
		return &problem.Problem{Kind: problem.Blocked, Text: "The other bench has paused introductions: " + plain.Cut(plain.Line(e.Message), 200) + ".", Remedy: "Try again later, or ask for an invitation: earlybench peer invite"}
	}
	return problem.Errorf(problem.Failed, "introduce this bench: %s", plain.Cut(plain.Line(e.Message), 200))
}

// await waits for the words, and then for the other bench's owner.
func (p *Peers) await(ctx context.Context, m *meeting) {
	select {
	case <-ctx.Done():
		p.ends(m, gaveUp(ctx))
		return
	case <-m.link.Done():
		p.ends(m, errors.New("the other bench ended the introduction"))
		return
	case <-m.typed:
	}
	var t peer.Typed
	err := m.link.Call(ctx, peer.MethodTyped, struct{}{}, &t)
	switch {
	case ctx.Err() != nil:
		err = gaveUp(ctx)
	case err != nil:
		err = fmt.Errorf("the other bench did not answer: %w", err)
	case !t.Accepted:
		err = errors.New("its owner refused, or did not answer in time")
	}
	if err == nil {
		var s Shown
		if s, err = p.keep(p.ctx, m.Name, m.as, m.link.Key(), m.addresses, m.via, m.viaKey); err == nil {
			p.mu.Lock()
			m.Name = s.Name
			p.mu.Unlock()
		}
	}
	p.ends(m, err)
}

func gaveUp(ctx context.Context) error {
	if errors.Is(ctx.Err(), context.DeadlineExceeded) {
		return fmt.Errorf("nobody typed the words or answered within %s", introducesFor)
	}
	return errors.New("it was cancelled")
}

// ends notes how an introduction has ended.
func (p *Peers) ends(m *meeting, err error) {
	p.mu.Lock()
	if m.State != Failed {
		m.State, m.Trouble = Introduced, nil
		if err != nil {
			m.State, m.Trouble = Failed, err
		}
	}
	p.mu.Unlock()
	p.tell()
}

// Type takes the three words that the other bench shows. A typing mistake can be corrected; wrong words end
// the introduction, since somebody may be between the benches.
func (p *Peers) Type(text string) (Meeting, error) {
	typed, err := introduction.Parse(text)
	if err != nil {
		return Meeting{}, problem.Errorf(problem.Invalid, "%w", err)
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	m := p.meeting
	if m == nil || m.State != Words {
		return Meeting{}, &problem.Problem{Kind: problem.NotFound, Text: "No introduction is waiting for words.", Remedy: "Start one: earlybench peer add HOST:PORT"}
	}
	if !typed.Equal(m.words) {
		m.State = Failed
		m.Trouble = &problem.Problem{Kind: problem.Refused, Text: "These are not the words that the other bench should show: somebody may be in between. The introduction has ended.", Remedy: "Make sure that the words come from the right person and from this introduction, then start again."}
		m.stop()
		return m.Meeting, nil
	}
	m.State = Asked
	close(m.typed)
	return m.Meeting, nil
}

// StopMeeting cancels the current introduction.
func (p *Peers) StopMeeting() error {
	p.mu.Lock()
	m := p.meeting
	goes := m != nil && slices.Contains([]MeetingState{Words, Asked}, m.State)
	if goes {
		m.State, m.Trouble = Failed, errors.New("it was cancelled")
	}
	p.mu.Unlock()
	if !goes {
		return &problem.Problem{Kind: problem.NotFound, Text: "No introduction is in progress.", Remedy: "Start one: earlybench peer add HOST:PORT"}
	}
	m.stop()
	return nil
}
