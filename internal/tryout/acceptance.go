package tryout

import (
	"context"
	"errors"
	"fmt"
	"time"

	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/ready"
)

const gateAccepted = "accepted"

// acceptWithin is how long a run waits for a device's owner to accept the developer.
const acceptWithin = 3 * time.Minute

// awaitAcceptance waits until the device's owner has accepted the app's developer. An
// unattended run does not wait.
func (w *work) awaitAcceptance(ctx context.Context) error {
	person := func(standing problem.Problem) error {
		standing.Kind = problem.Person
		return &standing
	}
	if w.unattended {
		return person(*w.Outlook.Glance(w.keeper, w.project.ID).BlockedAt(gateAccepted))
	}
	waiting, cancel := context.WithTimeout(ctx, acceptWithin)
	defer cancel()
	asked := ""
	for {
		changed := w.keeper.Facts().Changed()
		s := w.Outlook.Glance(w.keeper, w.project.ID)
		if s.Readiness.Gate(gateAccepted).State == ready.Open {
			w.run.Asks("")
			return nil
		}
		if now := s.BlockedAt(gateAccepted).Remedy + " Then it is started again."; now != asked {
			asked = now
			w.run.Asks(now)
		}
		select {
		case <-changed:
		case <-w.session.Done():
			return w.lost("wait for the owner to accept the developer", errors.New("the session has ended"))
		case <-waiting.Done():
			if ctx.Err() != nil {
				return context.Cause(ctx)
			}
			blocked := *s.BlockedAt(gateAccepted)
			blocked.Text = fmt.Sprintf("Nobody accepted the developer of %s on %s within %s.", w.project.ID, w.record.Device, acceptWithin)
			return person(blocked)
		}
	}
}
