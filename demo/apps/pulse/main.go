//go:build wasip1

// Pulse is the watch part of Fellgate Callout: it shows the pulse of a casualty.
package main

import (
	_ "embed"
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"
	"unsafe"
)

//go:embed beats.txt
var measured string

//go:wasmimport screen clear
func screenClear(rgb uint32)

//go:wasmimport screen rect
func screenRect(x, y, w, h int32, rgb uint32)

//go:wasmimport screen text
func screenText(x, y, size int32, at unsafe.Pointer, length uint32, rgb uint32)

//go:wasmimport screen show
func screenShow()

func write(x, y, size int32, s string, rgb uint32) {
	screenText(x, y, size, unsafe.Pointer(unsafe.StringData(s)), uint32(len(s)), rgb)
}

const (
	slate = 0x22333b
	chalk = 0xf4efe6
	flare = 0xe4572e
)

func main() {
	var beats []int
	for _, word := range strings.Fields(measured) {
		n, err := strconv.Atoi(word)
		if err != nil {
			fmt.Fprintln(os.Stderr, "no pulse:", word)
			os.Exit(3)
		}
		beats = append(beats, n)
	}
	if len(beats) == 0 {
		fmt.Fprintln(os.Stderr, "no pulse was measured")
		os.Exit(3)
	}
	fmt.Printf("pulse 2.3 on %s\n", os.Getenv("DEVICE"))
	fmt.Printf("pulse ready: %d beats a minute\n", beats[0])
	for n := 0; ; n++ {
		draw(beats, n)
		if n > 0 {
			fmt.Printf("beat %d: %d a minute\n", n, beats[n%len(beats)])
		}
		time.Sleep(3 * time.Second)
	}
}

// draw draws the pulse of now, and those before as bars.
func draw(beats []int, now int) {
	screenClear(slate)
	write(52, 96, 56, strconv.Itoa(beats[now%len(beats)]), chalk)
	write(148, 96, 14, "a minute", flare)
	for i := range beats {
		h := int32(beats[(now+i)%len(beats)]-60) * 3
		screenRect(54+int32(22*i), 214-h, 14, h, flare)
	}
	screenShow()
}
