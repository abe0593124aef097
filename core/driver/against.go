package driver

import "fmt"

// Objections to a driver set, which a person has to consent to as well.
const (
	Unsigned    = "unsigned" // nobody whom the owner has accepted has signed it
	SimilarOnly = "similar"  // it is for a similar model
	WrongSystem = "system"   // it is for another system than the host's
)

// Objection is a reason against a driver set: one of the words above, and a
// sentence.
type Objection struct{ Word, Text string }

// Against returns the objections to a candidate.
func (c *Candidate) Against() (out []Objection) {
	name := c.Manifest.Name + " " + c.Manifest.Version
	switch c.Fit {
	case Similar:
		out = append(out, Objection{SimilarOnly, fmt.Sprintf("Driver set %s is not made for this device: %s. The device link may not work with it.", name, c.Why)})
	case OtherSystem:
		out = append(out, Objection{WrongSystem, fmt.Sprintf("Driver set %s is not made for this host: %s.", name, c.Why)})
	}
	if !c.Verified {
		text := fmt.Sprintf("Driver set %s is not signed: compare its digest %s with the one that its maker states.", name, c.Digest)
		if c.Signer != "" {
			text = fmt.Sprintf("Driver set %s is signed by %s, key %s, who has not been accepted here.", name, c.Signer, c.Publisher)
		}
		out = append(out, Objection{Unsigned, text})
	}
	return out
}
