package client

import "time"

// NewReservation is which devices are reserved, and for what.
type NewReservation struct {
	Title  string `json:"title" minLength:"1" maxLength:"200" doc:"what they are for"`
	Where  string `json:"where,omitempty" maxLength:"2000" doc:"only devices for which this CEL expression is true (docs/where.md)"`
	Count  int    `json:"count" minimum:"1" maximum:"50"`
	Peers  bool   `json:"peers,omitempty" doc:"free devices of peers will do, too"`
	For    int64  `json:"for_seconds" minimum:"60" maximum:"86400" doc:"how long they are needed at most, once they are there"`
	Within int64  `json:"within_seconds,omitempty" minimum:"0" maximum:"86400" doc:"how long is waited for them at most; 0 for as long as it is heard of"`
}

// Reservation keeps devices for one run of a command. It ends unless it is heard of again within 30 seconds.
type Reservation struct {
	ID      string           `json:"id"`
	State   string           `json:"state" enum:"waiting,active,ended"`
	By      string           `json:"by" doc:"who has asked for it, as in the audit"`
	Title   string           `json:"title"`
	Where   string           `json:"where"`
	Count   int              `json:"count"`
	Peers   bool             `json:"peers"`
	For     int64            `json:"for_seconds"`
	Within  int64            `json:"within_seconds"`
	Asked   time.Time        `json:"asked"`
	Began   *time.Time       `json:"began,omitempty"`
	Ends    *time.Time       `json:"ends,omitempty"`
	Ended   *time.Time       `json:"ended,omitempty"`
	Place   int              `json:"place" doc:"among those that wait, from 1; 0 if it does not"`
	Why     string           `json:"why" doc:"what it waits for, or why it has ended"`
	Devices []ReservedDevice `json:"devices" nullable:"false"`
}

// ReservedDevice is a device that is reserved.
type ReservedDevice struct {
	Device string `json:"device" doc:"its handle here; of one that a peer is lending just now, its handle there"`
	Peer   string `json:"peer" doc:"that lends it; empty for a device of this bench"`
	Away   bool   `json:"away" doc:"it is not reached just now"`
	Lost   string `json:"lost" doc:"why it was lost; empty if it was not"`
}
