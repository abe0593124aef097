package client

import "time"

// Depot is a depot that the owner has accepted.
type Depot struct {
	Name      string    `json:"name"`
	URL       string    `json:"url"`
	Root      string    `json:"root" doc:"SHA-256 of the certificate by which its TLS is trusted; empty for the system's roots, or without TLS"`
	Publisher string    `json:"publisher" doc:"SHA-256 of the key that signs its index"`
	Signer    string    `json:"signer" doc:"how the publisher calls itself"`
	State     string    `json:"state" enum:",up,slow,cut,down" doc:"empty before it was asked for"`
	Rate      int64     `json:"rate" doc:"bytes a second, as measured last; 0: never"`
	Trouble   string    `json:"trouble" doc:"why it is not used now; empty for nothing"`
	Offers    int       `json:"offers"`
	Read      time.Time `json:"read" doc:"when its index was read that is used now"`
}

// FoundDepot is a depot as it introduces itself, before anybody has accepted it.
type FoundDepot struct {
	URL       string `json:"url"`
	Name      string `json:"name"`
	Root      string `json:"root" doc:"SHA-256 of the certificate at the top of its TLS chain; empty without TLS"`
	RootName  string `json:"root_name"`
	RootKnown bool   `json:"root_known" doc:"this computer already trusts it"`
	Publisher string `json:"publisher" doc:"SHA-256 of the key that signs its index"`
	Signer    string `json:"signer" doc:"how the publisher calls itself"`
	Offers    int    `json:"offers"`
	Accept    string `json:"accept" doc:"digest of address, root and publisher, to be accepted"`
}

// NewDepot is a depot to be added.
type NewDepot struct {
	URL    string `json:"url" maxLength:"400"`
	Name   string `json:"name,omitempty" maxLength:"40" doc:"empty: made of how it calls itself"`
	Accept string `json:"accept" maxLength:"80" doc:"as a look at the depot says"`
}

// SupportPack is the files for exactly one OS release of a family.
type SupportPack struct {
	Digest        string   `json:"digest" doc:"SHA-256 of its file"`
	Name          string   `json:"name"`
	Version       string   `json:"version"`
	Maker         string   `json:"maker"`
	About         string   `json:"about"`
	Family        string   `json:"family"`
	Release       string   `json:"release"`
	Size          int64    `json:"size"`
	Have          int64    `json:"have" doc:"bytes that are here"`
	Here          bool     `json:"here" doc:"it is whole"`
	Depot         string   `json:"depot" doc:"empty for a file that somebody gave"`
	Job           string   `json:"job" doc:"id of the job that fetches it; empty for none"`
	Devices       []string `json:"devices" nullable:"false" doc:"handles of those on the rack that it is for"`
	Licence       string   `json:"licence" doc:"name of the licence; empty for none"`
	LicenceDigest string   `json:"licence_digest" doc:"SHA-256 of its text"`
	Accept        string   `json:"accept" doc:"digest of file and licence, to be accepted before it is fetched"`
}

// Needs are what the devices on the rack lack and depots have.
type Needs struct {
	Packs   []SupportPack `json:"packs" nullable:"false"`
	Accept  string        `json:"accept" doc:"to accept them all at once; empty for none"`
	Left    int64         `json:"left" doc:"bytes that are not here yet"`
	Seconds int64         `json:"seconds" doc:"that the rest takes at the rate measured last; 0 if none was measured"`
	Free    int64         `json:"free" doc:"bytes that are free on the disk; -1 if that is not known"`
}

// Licence is the text of a licence.
type Licence struct {
	Name string `json:"name"`
	Text string `json:"text"`
}

// DriverSet is a driver set.
type DriverSet struct {
	Digest    string   `json:"digest" doc:"SHA-256 of its file; what one consents to"`
	Name      string   `json:"name"`
	Version   string   `json:"version"`
	Maker     string   `json:"maker"`
	About     string   `json:"about"`
	Fits      []string `json:"fits" nullable:"false" doc:"USB ids, or ranges of them"`
	Size      int64    `json:"size"`
	Signer    string   `json:"signer" doc:"how the publisher who signed it calls itself; empty if it is not signed"`
	Publisher string   `json:"publisher" doc:"SHA-256 of the key that signed it; empty if it is not signed, or that is not known before it is fetched"`
}

// DriverCandidate is a driver set that may be used for a device.
type DriverCandidate struct {
	DriverSet
	Fit        string      `json:"fit" enum:"exact,range,class,system,similar" doc:"how well it fits, the best first; the last two are installed only if somebody chooses them"`
	Why        string      `json:"why" doc:"the same in words"`
	Depot      string      `json:"depot" doc:"that offers it; empty for none"`
	Service    bool        `json:"service" doc:"the host's own update service has it"`
	Here       bool        `json:"here" doc:"its file is on the bench"`
	Installed  bool        `json:"installed" doc:"on the host"`
	Bound      bool        `json:"bound" doc:"to the device link"`
	Verified   bool        `json:"verified" doc:"signed by a publisher whom the owner or the host has accepted"`
	Difference string      `json:"difference" doc:"what installing it changes in the rules file of the bench's computer, in the unified format; empty for nothing"`
	Against    []Objection `json:"against" nullable:"false" doc:"what one has to consent to besides"`
}

// Objection is something that stands against a driver set.
type Objection struct {
	Word string `json:"word" enum:"unsigned,similar,system"`
	Text string `json:"text"`
}

// DriverConsent is a consent to a driver set.
type DriverConsent struct {
	Accept  string   `json:"accept" maxLength:"80" doc:"digest of the driver set that is consented to"`
	Despite []string `json:"despite,omitempty" maxItems:"3" enum:"unsigned,similar,system" doc:"what stands against it and is accepted"`
}

// Kit is the compilers and tools that builds of apps need, with its copies on the bench's computer.
type Kit struct {
	Name      string    `json:"name"`
	About     string    `json:"about"`
	Described bool      `json:"described" doc:"the bench knows what a complete copy holds"`
	Copies    []KitCopy `json:"copies" nullable:"false"`
	Apps      []KitNeed `json:"apps" nullable:"false" doc:"those whose builds need it"`
}

// KitCopy is a kit at one place.
type KitCopy struct {
	Path     string     `json:"path"`
	Version  string     `json:"version" doc:"empty if it does not say"`
	Named    bool       `json:"named" doc:"its owner has named it; else it was found"`
	OnPath   bool       `json:"on_path" doc:"the search path of the bench leads to it"`
	Complete bool       `json:"complete"`
	Entries  []KitEntry `json:"entries" nullable:"false"`
	Apps     []string   `json:"apps" nullable:"false" doc:"that are built with it"`
}

// KitEntry is something that a complete copy of a kit holds.
type KitEntry struct {
	Path  string `json:"path" doc:"in the copy; empty for the copy itself"`
	Kind  string `json:"kind" enum:"program,file,directory"`
	Wrong string `json:"wrong" doc:"such as: is missing; empty for nothing"`
}

// KitNeed is what an app's build needs of a kit.
type KitNeed struct {
	App    string `json:"app"`
	From   string `json:"from" doc:"the least version; empty for any"`
	Below  string `json:"below" doc:"first version that is not accepted; empty for none"`
	State  string `json:"state" enum:"here,missing,broken,version,unknown"`
	Text   string `json:"text" doc:"why it is not met; empty if it is"`
	Remedy string `json:"remedy"`
	Offer  string `json:"offer" doc:"path of a copy that would do, once its owner names it; empty for none"`
}

// NewKit is a directory of a kit.
type NewKit struct {
	Name        string `json:"name" maxLength:"40"`
	Path        string `json:"path" maxLength:"4096" doc:"whole path of its directory"`
	Description string `json:"description,omitempty" maxLength:"65536" doc:"YAML that says what a complete copy holds (docs/formats/kit.md); empty if the kit is described already"`
}

// FetchKit says from which peer a kit is fetched, and which versions serve.
type FetchKit struct {
	Peer  string `json:"peer" maxLength:"60"`
	From  string `json:"from,omitempty" maxLength:"40" doc:"the least version that serves"`
	Below string `json:"below,omitempty" maxLength:"40" doc:"first version that is not accepted"`
}

// FetchedKit is a kit that was fetched from a peer.
type FetchedKit struct {
	Kit     string `json:"kit"`
	Version string `json:"version"`
	Path    string `json:"path" doc:"its directory"`
	Came    int64  `json:"came_bytes" doc:"what came over the network: files that were here already did not"`
}

// KitEnvironment is what a process needs in order to use a copy of a kit.
type KitEnvironment struct {
	Path      string     `json:"path"`
	Version   string     `json:"version"`
	Search    []string   `json:"search" nullable:"false" doc:"directories for the front of the search path, the first first"`
	Variables []Variable `json:"variables" nullable:"false"`
}

// Variable is an environment variable.
type Variable struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}
