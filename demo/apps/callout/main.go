//go:build wasip1

// Fellgate Callout tells who is on the rota of Fellgate Rescue, and draws it.
package main

import (
	_ "embed"
	"fmt"
	"os"
	"strings"
	"time"
	"unsafe"
)

//go:embed rota.txt
var rota string

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
	moss  = 0x8aa67a
)

func main() {
	parties := strings.Split(strings.TrimSpace(rota), "\n")
	if len(parties) < 2 {
		fmt.Fprintln(os.Stderr, "the rota is empty")
		os.Exit(3)
	}
	fmt.Printf("callout 2.3 on %s\n", os.Getenv("DEVICE"))
	screenClear(slate)
	screenRect(18, 46, 240, 64, flare)
	write(32, 74, 20, "No callout", chalk)
	write(32, 96, 13, "Fellgate Rescue stands by", chalk)
	for i, p := range parties {
		name, where, _ := strings.Cut(p, ", ")
		y := int32(146 + 66*i)
		screenRect(18, y, 240, 56, 0x2f444e)
		screenRect(18, y, 5, 56, moss)
		write(36, y+24, 16, name, chalk)
		write(36, y+44, 12, where, 0xb9c6c4)
	}
	screenShow()
	go serveDebug(parties)
	fmt.Printf("callout ready: %d on the rota\n", len(parties))
	for n := 1; ; n++ {
		time.Sleep(15 * time.Second)
		fmt.Printf("heartbeat %d: all parties answer\n", n)
	}
}
