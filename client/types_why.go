package client

import "time"

// Why explains a device.
type Why struct {
	Device   string   `json:"device"`
	App      string   `json:"app" doc:"for which it was asked; empty for none"`
	Gate     string   `json:"gate" doc:"empty when nothing is shut"`
	State    string   `json:"state"`
	Text     string   `json:"text" doc:"what is wrong, in a sentence"`
	Remedy   string   `json:"remedy"`
	Evidence []Fact   `json:"evidence" nullable:"false"`
	Denied   []Denied `json:"denied" nullable:"false" doc:"people's words that observation stands against"`
	Causes   []Cause  `json:"causes" nullable:"false" doc:"the most probable first; the probabilities sum to 1"`
	Answers  []Given  `json:"answers" nullable:"false" doc:"what was answered so far"`
	Next     *Move    `json:"next" doc:"the one thing to do next"`
}

// Denied is a person's word that an observation stands against.
type Denied struct {
	Told     Fact `json:"told"`
	Observed Fact `json:"observed"`
}

// Cause is one cause that may be behind it.
type Cause struct {
	ID          string  `json:"id"`
	Probability float64 `json:"probability"`
	Text        string  `json:"text"`
	Remedy      string  `json:"remedy"`
	Who         string  `json:"who" enum:",hands,computer,automatic"`
	Seconds     float64 `json:"seconds" doc:"that the remedy takes"`
	Sight       string  `json:"sight" doc:"what should be seen after it"`
	Done        bool    `json:"done" doc:"somebody tried it, and it did not help"`
	Because     []Fact  `json:"because" nullable:"false" doc:"what proves it or speaks for it"`
}

// Given is an answer to a check.
type Given struct {
	Check  string `json:"check"`
	Text   string `json:"text" doc:"the question"`
	Answer string `json:"answer"`
	Said   string `json:"said" doc:"the answer in words"`
	Seen   bool   `json:"seen" doc:"the bench saw it for itself"`
	Fact   Fact   `json:"fact"`
}

// Move is the one thing to do next.
type Move struct {
	Kind    string   `json:"kind" enum:"check,remedy,step"`
	ID      string   `json:"id" doc:"of the check, of the cause whose remedy it is, or of the step"`
	Who     string   `json:"who" enum:"hands,computer,automatic"`
	Seconds float64  `json:"seconds"`
	Text    string   `json:"text"`
	Note    string   `json:"note"`
	Sight   string   `json:"sight" doc:"what should be seen after"`
	Answers []Choice `json:"answers" nullable:"false" doc:"of a check"`
	Step    *Step    `json:"step" doc:"that leads through it"`
	Action  string   `json:"action" doc:"what the bench itself can do for a remedy, such as link.restart; empty for nothing"`
}

// Choice is one answer that a check may have.
type Choice struct {
	ID   string `json:"id"`
	Text string `json:"text"`
}

// Answer answers a check.
type Answer struct {
	Check  string `json:"check" maxLength:"60"`
	Answer string `json:"answer" maxLength:"60"`
}

// Report is all that one wants to tell a colleague of a device, without secrets.
type Report struct {
	Text string `json:"text"`
}

// Learned is how often a cause turned out to be the one.
type Learned struct {
	Family string    `json:"family" doc:"empty for devices that did not show up at all"`
	Host   string    `json:"host"`
	Cause  string    `json:"cause"`
	Cases  int       `json:"cases"`
	Last   time.Time `json:"last"`
}
