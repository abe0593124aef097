package body

import (
	"fmt"
	"strings"
)

// Reading is everything that a person can read on the screen, and what can be touched.
type Reading struct {
	Above    string    `json:"above,omitempty"`
	Title    string    `json:"title,omitempty"`
	Text     string    `json:"text,omitempty"`
	Code     string    `json:"code,omitempty"`  // shown large
	Typed    string    `json:"typed,omitempty"` // so far
	Toast    string    `json:"toast,omitempty"`
	Elements []Element `json:"elements"`
}

// Read reads the screen.
func (b *Body) Read() Reading {
	elements, _ := b.Elements()
	b.mu.Lock()
	defer b.mu.Unlock()
	s := b.layout()
	r := Reading{Above: s.above, Title: s.title, Text: s.text, Code: s.code, Typed: hidden(s), Toast: s.toast, Elements: elements}
	switch {
	case s.kind == "dark":
		r.Title = "The screen is dark"
	case s.app != nil:
		r.Text = "An app draws here"
	}
	return r
}

// Says returns what the screen says besides what can be touched, in one line.
func (r Reading) Says() string {
	var out []string
	for _, part := range []string{r.Above, r.Title, r.Text, r.Code, r.Toast} {
		if part != "" {
			out = append(out, strings.ReplaceAll(part, "\n", " "))
		}
	}
	return strings.Join(out, ". ")
}

// Secret is one line of a stand-in's card: something that its owner knows.
type Secret struct {
	What string `json:"what"`
	Text string `json:"text"`
}

// Asks reports whether the screen asks for something on the card.
func (b *Body) Asks() bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.screen.pad != nil || b.entry() != nil
}

// Card returns what only the owner of the device knows.
func (b *Body) Card() []Secret {
	spec := b.cfg.Spec
	var out []Secret
	switch spec.Lock.Kind {
	case "pin", "password":
		out = append(out, Secret{spec.word("secret " + spec.Lock.Kind), spec.Lock.Secret})
	case "dial":
		var short, long int
		fmt.Sscan(spec.Lock.Secret, &short, &long) //nolint:errcheck // it was checked with the data
		out = append(out, Secret{"Dial", fmt.Sprintf("short hand at %d, long hand at %d", short, long)})
	}
	for _, p := range spec.Pages {
		if p.Entry != nil && p.Entry.Of == "crew" {
			out = append(out, Secret{"Crew number", b.cfg.Crew})
		}
	}
	return out
}
