//go:build wasip1

// Fellgate Muster is where a rescue party checks in at a station.
package main

import (
	"fmt"
	"os"
	"strings"
	"time"
	"unsafe"
)

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

// packed is the list of stations, a line each, with a bar behind it. The build puts it here.
var packed string

const (
	pine  = 0x1f3a34
	paper = 0xf3eee2
	rust  = 0xb4532a
)

func main() {
	heading, list, found := strings.Cut(strings.TrimSuffix(packed, "|"), "|")
	if !found {
		fmt.Fprintln(os.Stderr, "the stations are not packed")
		os.Exit(3)
	}
	stations := strings.Split(list, "|")
	screenClear(paper)
	screenRect(0, 0, 400, 70, pine)
	write(18, 44, 20, heading+": check in", paper)
	for i, s := range stations {
		y := int32(100 + 52*i)
		screenRect(18, y, 8, 36, rust)
		write(38, y+24, 15, s, pine)
	}
	screenShow()
	fmt.Printf("muster ready: %d stations\n", len(stations))
	for n := 1; ; n++ {
		time.Sleep(30 * time.Second)
		fmt.Printf("still open: %d stations, round %d\n", len(stations), n)
	}
}
