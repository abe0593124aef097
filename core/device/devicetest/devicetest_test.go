package devicetest_test

import (
	"context"
	"encoding/json"
	"errors"
	"sync"
	"testing"

	"go.uber.org/goleak"

	"earlybench.invalid/earlybench/core/developer"
	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/device/devicetest"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// plainest is a session that has apps and facts, and nothing else.
type plainest struct {
	device.Bare
	once sync.Once
	done chan struct{}
}

var errEnded = errors.New("the session has ended")

func (p *plainest) Key() string           { return "" }
func (p *plainest) Done() <-chan struct{} { return p.done }
func (p *plainest) Close() error          { p.once.Do(func() { close(p.done) }); return nil }

func (p *plainest) Facts() (device.Facts, error) { return p, nil }
func (p *plainest) Apps() (device.Apps, error)   { return p, nil }

func (p *plainest) err() error {
	select {
	case <-p.done:
		return errEnded
	default:
		return nil
	}
}

func (p *plainest) Follow(ctx context.Context, take func([]device.Fact)) error {
	if err := p.err(); err != nil {
		return err
	}
	take([]device.Fact{{Key: "device.release", Value: json.RawMessage(`"12"`)}})
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-p.done:
		return errEnded
	}
}

func (p *plainest) List(context.Context) ([]device.App, error) { return nil, p.err() }
func (p *plainest) Offer(context.Context, []byte, developer.Signature) (device.Lacks, error) {
	return device.Lacks{}, &device.Refusal{Kind: device.Unfit, Text: "no manifest"}
}
func (p *plainest) Install(context.Context, string) error { return errors.New("it was not offered") }
func (p *plainest) Start(context.Context, string) (device.Started, error) {
	return device.Started{}, errors.New("there is no such app")
}
func (p *plainest) Stop(context.Context, string) error   { return p.err() }
func (p *plainest) Remove(context.Context, string) error { return p.err() }

func TestASessionThatLacksMostKeepsToTheContract(t *testing.T) {
	devicetest.Test(t, func(*testing.T) devicetest.Rig {
		return devicetest.Rig{Session: &plainest{Bare: device.Bare{Way: "test"}, done: make(chan struct{})}}
	})
}
