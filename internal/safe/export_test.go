package safe

import "time"

// AnswerWithin sets how long a request waits for its answer.
func (s *Safe) AnswerWithin(d time.Duration) { s.within = d }
