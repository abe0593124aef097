package benchtest

import (
	"io"
	"sync"
	"time"
)

// LongLine copies from one connection to another as a long line does: each byte comes so much later, and no more of them in a
// second than the line carries; 0 for as fast as it goes.
func LongLine(to io.Writer, from io.Reader, delay func() time.Duration, rate int) {
	type chunk struct {
		b   []byte
		due time.Time
	}
	line := make(chan chunk, 1<<10)
	var carrying sync.WaitGroup
	carrying.Go(func() {
		free := time.Now() // when the line has carried what was sent before
		for c := range line {
			time.Sleep(time.Until(c.due))
			if rate > 0 {
				if now := time.Now(); free.Before(now) {
					free = now
				}
				free = free.Add(time.Duration(len(c.b)) * time.Second / time.Duration(rate))
				time.Sleep(time.Until(free))
			}
			if _, err := to.Write(c.b); err != nil {
				break
			}
		}
		for range line { // nobody takes it any more
		}
	})
	for {
		b := make([]byte, 16<<10)
		n, err := from.Read(b)
		if n > 0 {
			line <- chunk{b[:n], time.Now().Add(delay())}
		}
		if err != nil {
			break
		}
	}
	close(line)
	carrying.Wait()
}
