package sheet

// meanings say in a sentence what it means that a gate is open.
var meanings = map[string]string{
	"seen":       "The bench sees the device: it is connected to a computer that the bench watches, or it is on the network.",
	"awake":      "It is on and not asleep, so that it can answer.",
	"mode":       "On the device, somebody has let computers develop with it. What that is called differs between makers.",
	"drivers":    "A driver set that fits the device is on the computer.",
	"driver":     "The computer has a driver for the part of the device by which the bench talks to it.",
	"admitted":   "The owner of the device has let this bench in, on the device.",
	"linked":     "The encrypted connection to the device stands.",
	"support":    "What the computer needs for the release of the device is here.",
	"registered": "The device is in the register of the crew that may develop with it.",
	"granted":    "The authority has given a grant that covers the app on this device.",
	"token":      "The device holds a debug token that is good.",
	"accepted":   "The owner of the device has accepted the developer of the app, on the device.",
	"kit":        "The program that builds the app is on the computer.",
	"signer":     "The other bench that signs the app is there and may do so.",
	"tried":      "A tryout of the app on this device has passed.",
}

// Meaning says in a sentence what it means that a gate is open; "" for a gate that there is not.
func Meaning(gate string) string { return meanings[gate] }
