package shell

import (
	"embed"
	"fmt"
	"strings"
)

//go:embed scripts
var scripts embed.FS

func text(name string) string {
	b, err := scripts.ReadFile("scripts/" + name)
	if err != nil {
		panic(err) // it is embedded
	}
	return string(b)
}

// command is what a login shell of any kind is told: to have sh run a script of so many bytes, which comes
// first in the input, without taking a byte of what follows. It has nothing in it that shells read in
// different ways.
func command(bytes int) string {
	return fmt.Sprintf(`exec sh -c 'eval "$(dd bs=1 count=%d 2>/dev/null)"'`, bytes)
}

// source is a script with its arguments. At its end it prints the mark and its status in a line of their own, unless
// the mark is "": not every server tells the status in time.
func source(name, mark string, args []string) string {
	var b strings.Builder
	b.WriteString("set --")
	for _, a := range args {
		b.WriteString(" " + quoted(a))
	}
	b.WriteString("\n")
	if mark != "" {
		fmt.Fprintf(&b, "trap 'printf \"\\n%%s %%s\\n\" %s $?' EXIT\n", mark)
	}
	return b.String() + text("common.sh") + text(name+".sh")
}

// quoted is a word as POSIX shells read it (IEEE 1003.1, 2.2.2).
func quoted(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }
