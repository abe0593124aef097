package client

import "time"

// Authority is an authority that the owner has accepted.
type Authority struct {
	Name      string     `json:"name"`
	URL       string     `json:"url"`
	Root      string     `json:"root" doc:"SHA-256 of the certificate by which its TLS is trusted; empty for the system's roots"`
	State     string     `json:"state" enum:",up,slow,down" doc:"empty before it was asked"`
	Trouble   string     `json:"trouble" doc:"why it is not used now; empty for nothing"`
	ClockOff  int64      `json:"clock_off_seconds" doc:"by which this computer's clock is ahead of its"`
	Standings []Standing `json:"standings" nullable:"false"`
}

// Standing is what a crew may do at an authority.
type Standing struct {
	Name            string   `json:"name"`
	Places          int      `json:"places" doc:"devices in the register"`
	GrantDays       int      `json:"grant_days"`
	CertificateDays int      `json:"certificate_days"`
	Lacks           []string `json:"lacks" nullable:"false" doc:"app features that are not to be had"`
	Costs           string   `json:"costs"`
	Alone           string   `json:"alone" doc:"what happens by itself"`
}

// FoundAuthority is an authority as it introduces itself, before anybody has accepted it.
type FoundAuthority struct {
	URL       string     `json:"url"`
	Name      string     `json:"name"`
	Root      string     `json:"root" doc:"SHA-256 of the certificate at the top of its TLS chain"`
	RootName  string     `json:"root_name"`
	RootKnown bool       `json:"root_known" doc:"this computer already trusts it"`
	Standings []Standing `json:"standings" nullable:"false"`
	Accept    string     `json:"accept" doc:"digest of address and root, to be accepted"`
}

// NewAuthority is an authority to be added.
type NewAuthority struct {
	URL    string `json:"url" maxLength:"400"`
	Accept string `json:"accept" maxLength:"80" doc:"as a look at the authority says"`
}

// Account is an account at an authority.
type Account struct {
	ID        string    `json:"id"`
	Authority string    `json:"authority"`
	Name      string    `json:"name"`
	Used      bool      `json:"used" doc:"the bench uses this one"`
	State     string    `json:"state" enum:"in,out"`
	Since     time.Time `json:"since" doc:"when somebody signed in"`
	Crew      string    `json:"crew" doc:"which of its crews is used"`
	Crews     []Crew    `json:"crews" nullable:"false"`
}

// Crew is the group to which devices, identities and apps belong.
type Crew struct {
	Name     string   `json:"name"`
	Number   string   `json:"number" doc:"is typed into devices that enter themselves"`
	Standing Standing `json:"standing"`
	Used     int      `json:"used" doc:"places of the register that are taken"`
}

// SignInAt is where to sign in.
type SignInAt struct {
	Authority string `json:"authority,omitempty" maxLength:"60" doc:"empty: the only one there is"`
}

// SignInCode is what a person needs in order to sign in (RFC 8628).
type SignInCode struct {
	Authority string    `json:"authority"`
	Page      string    `json:"page" doc:"to be opened"`
	WholePage string    `json:"whole_page" doc:"the page with the code filled in"`
	Code      string    `json:"code" doc:"to be typed there"`
	Ends      time.Time `json:"ends"`
	Job       string    `json:"job" doc:"the job that waits for it"`
}

// AccountChange chooses an account, and one of its crews.
type AccountChange struct {
	Use  bool   `json:"use"`
	Crew string `json:"crew,omitempty" maxLength:"60" doc:"empty: the one before"`
}

// Register is the register of devices of the crew that is used.
type Register struct {
	Authority string   `json:"authority"`
	Account   string   `json:"account"`
	Crew      Crew     `json:"crew"`
	Entries   []Entry  `json:"entries" nullable:"false" doc:"those seen longest ago first"`
	Missing   []string `json:"missing" nullable:"false" doc:"handles of the rack's devices that belong into it and are not in it"`
	Read      bool     `json:"read" doc:"it was read from the authority"`
	Full      bool     `json:"full" doc:"no place is free"`
}

// Entry is a device in the register.
type Entry struct {
	Serial string    `json:"serial"`
	Model  string    `json:"model"`
	Handle string    `json:"handle" doc:"empty for a device that this bench does not know"`
	Since  time.Time `json:"since"`
	Seen   time.Time `json:"seen"`
	Self   bool      `json:"self" doc:"it entered itself by the crew's number"`
}

// AppID is an app id of the crew that is used.
type AppID struct {
	ID    string    `json:"id"`
	Since time.Time `json:"since"`
}

// NewEntries are devices to be registered.
type NewEntries struct {
	Devices []string     `json:"devices,omitempty" maxItems:"1000" doc:"handles"`
	All     bool         `json:"all,omitempty" doc:"all of the rack that belong into the register"`
	Others  []OutOfReach `json:"others,omitempty" maxItems:"1000" doc:"devices that this bench does not reach"`
}

// OutOfReach is a device that this bench does not reach.
type OutOfReach struct {
	Serial string `json:"serial" maxLength:"64"`
	Model  string `json:"model" maxLength:"60"`
}
