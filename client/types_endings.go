package client

import "time"

// Term is something that is good until an end.
type Term struct {
	ID      string     `json:"id"`
	Kind    string     `json:"kind" enum:"identity,debug token,grant,admission,standing,support pack,access key,loan"`
	Name    string     `json:"name"`
	Holder  string     `json:"holder" doc:"whose it is, or where"`
	Devices []string   `json:"devices" nullable:"false" doc:"handles of those that it is about"`
	Begins  *time.Time `json:"begins" doc:"null where that is not known"`
	Ends    *time.Time `json:"ends" doc:"null for no end"`
	By      *time.Time `json:"by" doc:"until when it should be renewed"`
	State   string     `json:"state" enum:"good,soon,ended,open"`
	Mine    bool       `json:"mine" doc:"this bench's; else somebody else's"`
	Alone   bool       `json:"alone" doc:"the bench renews it by itself"`
	Stops   string     `json:"stops" doc:"what does not work once it has ended"`
	Step    string     `json:"step" doc:"what to do before"`
	Command string     `json:"command"`
}

// Endings is all that ends, and what will not work at a time.
type Endings struct {
	All    []Term    `json:"all" nullable:"false" doc:"the soonest first, those without an end last"`
	At     time.Time `json:"at" doc:"the time that was asked about"`
	Stops  []Term    `json:"stops" nullable:"false" doc:"what will not work then"`
	Alone  []Term    `json:"alone" nullable:"false" doc:"what will have been renewed automatically until then"`
	Others []Term    `json:"others" nullable:"false" doc:"somebody else's that will have ended"`
}

// Notify is where notices of endings go beside the console.
type Notify struct {
	Webhook string   `json:"webhook" maxLength:"400" doc:"address to which CloudEvents are posted; empty for none"`
	Command []string `json:"command" nullable:"false" maxItems:"50" doc:"a program with its arguments, which gets the notice on its standard input; none for no command"`
	Secret  string   `json:"secret,omitempty" doc:"by which messages to the webhook are signed (Standard Webhooks); only told, not set"`
	Trouble string   `json:"trouble,omitempty" doc:"why a notice did not go out the last time"`
}
