package link

import "testing"

// FuzzLogLine reads lines of a log as devices send them.
func FuzzLogLine(f *testing.F) {
	f.Add(true, []byte(`{"seq":1,"app":"fellgate/callout","level":"info","text":"ready"}`))
	f.Add(false, []byte(`{"seq":2,"app":"fellgate/callout","code":3,"reason":"crashed"}`))
	f.Add(true, []byte(`{"seq":-1,"text":"\ud800"}`))
	f.Fuzz(func(t *testing.T, said bool, raw []byte) {
		method := MethodAppEnded
		if said {
			method = MethodLog
		}
		line, ok := lineOf(method, raw)
		if !ok {
			return
		}
		if len(line.Text) > mostLine+40 {
			t.Fatal(len(line.Text), "bytes")
		}
		if said == (line.Ended != nil) {
			t.Fatal("a line is text, or the end of an app")
		}
	})
}
