// Package leaks finds goroutines that a package's tests have left.
package leaks

import (
	"testing"

	"go.uber.org/goleak"
)

// None runs a package's tests and fails if goroutines are left. What the HTTP
// server's package leaves for the whole process is known. after is called at the end, before the process ends.
func None(m *testing.M, after ...func()) {
	goleak.VerifyTestMain(ended{m, after}, goleak.IgnoreAnyFunction("github.com/valyala/fasthttp.updateServerDate.func1"),
		goleak.IgnoreAnyFunction("github.com/valyala/fasthttp.(*workerPool).Start.func2"), goleak.IgnoreAnyFunction("github.com/valyala/fasthttp.(*FS).initRequestHandler"))
}

// ended runs tests, and then what follows them.
type ended struct {
	tests *testing.M
	after []func()
}

// Run runs them.
func (e ended) Run() int {
	code := e.tests.Run()
	for _, f := range e.after {
		f()
	}
	return code
}
