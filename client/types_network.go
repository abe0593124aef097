package client

import "time"

// NetworkEntry is something that is heard on the network, or at an address that was given.
type NetworkEntry struct {
	Name      string     `json:"name" doc:"by which it is spoken of while it is heard or on record, such as heard-1; near-1 of one that another device hears; server-1 of an SSH server"`
	State     string     `json:"state" enum:"known,not met,other version,silent" doc:"known: a device on record; not met: not introduced to this bench; other version: of the device link; silent: nobody answers at the address"`
	Device    string     `json:"device" doc:"handle of the device that it is taken for; empty for none"`
	Family    string     `json:"family" doc:"that it announces; empty where nothing is announced"`
	Addresses []string   `json:"addresses" nullable:"false"`
	Given     bool       `json:"given" doc:"a person has given the address"`
	Since     *time.Time `json:"since,omitempty" doc:"when it was heard first"`
	Through   string     `json:"through" doc:"handle of the device that hears it, and through which it is reached; empty for none"`
	MayBe     []string   `json:"may_be" nullable:"false" doc:"handles of the devices on record that it may be, of what was not introduced"`
	Asleep    *time.Time `json:"asleep,omitempty" doc:"since when it is asleep, as that device tells; missing while it is awake"`
	Trouble   string     `json:"trouble" doc:"why nobody answers at a given address"`
	Login     string     `json:"login" doc:"the user, of an SSH server; empty for anything else"`
	DeviceKey string     `json:"device_key" doc:"fingerprint of the key that an SSH server shows; empty before it was seen"`
}

// LoggedIn is a device on which the bench has logged in.
type LoggedIn struct {
	Device string `json:"device" doc:"its handle"`
}

// Introduction is the first meeting with a device without a cable.
type Introduction struct {
	State   string   `json:"state" enum:"connecting,words,asking,done,failed" doc:"words: the device shows three words, which are to be typed; asking: its owner is asked"`
	Name    string   `json:"name" doc:"by which the device is listed among what is heard"`
	Address string   `json:"address"`
	Device  string   `json:"device" doc:"handle of the device that it is introduced as; empty while it is not on record"`
	Bench   string   `json:"bench" doc:"the bench's name, as the device shows it"`
	Says    Claims   `json:"says" doc:"what the device says of itself"`
	Left    int64    `json:"left_seconds" doc:"for how long the device still waits for the words"`
	Error   *Problem `json:"error" doc:"why it has failed"`
}

// Claims is what a device says of itself before it is known.
type Claims struct {
	Name    string `json:"name"`
	Family  string `json:"family"`
	Model   string `json:"model" doc:"its code"`
	Serial  string `json:"serial"`
	Release string `json:"release"`
}

// OpenedPort is a port of a device that is open on this computer.
type OpenedPort struct {
	Device  string `json:"device"`
	Port    string `json:"port"`
	Address string `json:"address" doc:"host and port on this computer"`
}
