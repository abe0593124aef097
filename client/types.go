package client

import (
	"strings"
	"time"
)

// The types of the HTTP interface, as docs/json.md and /api/openapi.json tell
// them. The service makes its answers from these same types.

// GateMeaning says what it means that a gate is open.
type GateMeaning struct {
	Gate string `json:"gate"`
	Text string `json:"text"`
}

// Bench is the bench itself.
type Bench struct {
	Gates       []GateMeaning `json:"gates" nullable:"false" doc:"the gates in the order in which they are shown, with what they mean"`
	ID          string        `json:"id"`
	Name        string        `json:"name"`
	Version     string        `json:"version"`
	Fingerprint string        `json:"fingerprint" doc:"of the bench's link key, as devices show it"`
	Developer   string        `json:"developer" doc:"thumbprint of the development key by which it signs apps"`
	Now         time.Time     `json:"now"`
	Sequence    int64         `json:"sequence" doc:"of the newest event"`
	May         []string      `json:"may" nullable:"false" doc:"the rights of whoever asks"`
	MayUntil    *time.Time    `json:"may_until" doc:"when the access key of whoever asks ends; null without one"`
}

// SignInAddress is a one-time address that signs a browser in.
type SignInAddress struct {
	URL string `json:"url"`
}

// List is how every list is answered.
type List[T any] struct {
	Items []T    `json:"items" nullable:"false"`
	Next  string `json:"next,omitempty" doc:"the last item, if there are more: after asks for those; absent if there are none"`
}

// Device is a device on the rack.
type Device struct {
	Handle   string              `json:"handle"`
	Serial   string              `json:"serial"`
	Family   string              `json:"family"`
	Maker    string              `json:"maker"`
	Model    string              `json:"model"`
	Code     string              `json:"code" doc:"the model as the maker prints it"`
	Release  string              `json:"release" doc:"empty while not known"`
	Summary  string              `json:"summary" enum:"unseen,blocked,preparing,ready,expiring,retiring,retired"`
	Gates    map[string]string   `json:"gates" doc:"gate to its state: open, shut, waiting, unknown, not needed"`
	First    string              `json:"first" doc:"the first gate that is neither open nor not needed; empty if none"`
	Next     *Step               `json:"next"`
	Says     string              `json:"says" doc:"what is wrong, in a sentence; empty when nothing is"`
	Link     string              `json:"link" enum:",cable,ssh,wireless,companion,adapter,remote" doc:"the way that is used; empty where there is none"`
	Host     string              `json:"host"`
	Port     string              `json:"port"`
	Ways     []Link              `json:"ways" nullable:"false" doc:"the ways by which it is reached, the one that is used first"`
	Wireless bool                `json:"may_wireless" doc:"it is linked by cable, and can be switched from here to be reached without it, too"`
	HandsURL string              `json:"hands_url" doc:"a page with the device in your hand, for stand-ins"`
	Key      string              `json:"device_key" doc:"fingerprint of the pinned device key"`
	Lender   string              `json:"borrowed_from" doc:"peer that lends it to this bench; empty for a device of this bench"`
	LentTill *time.Time          `json:"borrowed_until,omitempty" doc:"when that loan ends"`
	Working  string              `json:"working" doc:"the work that has the device for itself"`
	Reserved string              `json:"reserved" doc:"by whom it is reserved, and for what; empty if it is not"`
	Path     string              `json:"path" doc:"by which it is computed: cable, wireless, companion, remote"`
	Computer map[string]string   `json:"computer" doc:"the computer's gates that the device needs, to their states"`
	Waits    map[string][]string `json:"waits" doc:"gate to the gates that it waits for"`
	ShownKey string              `json:"shown_key" doc:"fingerprint of the device key that it shows instead of the pinned one; empty if it shows none other"`
	Unfit    bool                `json:"unfit" doc:"the app is not made for its family, so that no step helps"`
	Endings  []Ending            `json:"endings" nullable:"false" doc:"open gates that will shut by themselves, the soonest first"`
	Asking   int64               `json:"asking_seconds" doc:"for how long the question on its screen still waits; 0 where there is none, or nobody knows"`
	Retiring bool                `json:"retiring" doc:"it is being retired"`
	Revision int64               `json:"revision" doc:"changes whenever what a person decides by does; actions may carry it in If-Match"`
}

// Ending is an open gate, and when it will shut.
type Ending struct {
	Gate string    `json:"gate"`
	At   time.Time `json:"at"`
	Soon bool      `json:"soon" doc:"within the gate's notice"`
	Left int64     `json:"left_seconds" doc:"until then, by the bench's clock"`
}

// Unrecognised is something on a bus that no prep sheet fits.
type Unrecognised struct {
	Name       string   `json:"name" doc:"such as unknown-1, for as long as it is connected there"`
	USB        string   `json:"usb" doc:"vendor:product"`
	Host       string   `json:"host"`
	Port       string   `json:"port"`
	Interfaces []string `json:"interfaces" nullable:"false" doc:"class and name of each"`
}

// NewDevice puts a device on the rack that no bus shows.
type NewDevice struct {
	Model  string `json:"model" doc:"code or name of its model"`
	Handle string `json:"handle" required:"false" doc:"empty for one that is free"`
}

// Round is many devices at once: grouped by what they need next, in the order in
// which one person walks as little as possible.
type Round struct {
	Groups []RoundGroup `json:"groups" nullable:"false"`
	Ready  []string     `json:"ready" nullable:"false" doc:"handles of the devices that need nothing"`
}

// RoundGroup is devices that need the same next.
type RoundGroup struct {
	Who     string   `json:"who" enum:"hands,computer,automatic"`
	Gate    string   `json:"gate"`
	Title   string   `json:"title" doc:"what they need"`
	Note    string   `json:"note" doc:"more of it"`
	Minutes int      `json:"minutes" doc:"for all of them"`
	Devices []Device `json:"devices" nullable:"false" doc:"in the order to take them"`
}

// PhoneAsk asks for one device's page for a phone, or for that of one request for hands.
type PhoneAsk struct {
	Device  string `json:"device,omitempty"`
	Hands   string `json:"hands,omitempty" doc:"id of a request for hands, instead of a device"`
	App     string `json:"app,omitempty" maxLength:"100" doc:"an app for which the serials of devices are collected, instead of a device"`
	Address string `json:"address" doc:"an address of this computer, with or without a port"`
}

// Phone is a page for a phone, of one device, of one request for hands, or of one handover.
type Phone struct {
	Device      string    `json:"device"`
	Handover    *Handover `json:"handover,omitempty" doc:"what is collected for a handover"`
	Hands       string    `json:"hands,omitempty" doc:"id of the request for hands that it is of"`
	URL         string    `json:"url,omitempty" doc:"works once; told only when it is opened"`
	Fingerprint string    `json:"fingerprint,omitempty" doc:"of its certificate, SHA-256"`
	Ends        time.Time `json:"ends"`
	Used        bool      `json:"used" doc:"a browser has it"`
}

// Handover is what somebody who has devices, and no bench, says of them, so that a debug token can name them.
type Handover struct {
	App     string           `json:"app"`
	Devices []HandoverDevice `json:"devices" nullable:"false"`
}

// HandoverDevice is one of these devices.
type HandoverDevice struct {
	Serial string `json:"serial" minLength:"1" maxLength:"60"`
	Model  string `json:"model" minLength:"1" maxLength:"60" doc:"as the maker prints it"`
	At     string `json:"at,omitempty" maxLength:"60" doc:"who has it, for people"`
}

// Retirement is how far retiring a device has come.
type Retirement struct {
	Since time.Time    `json:"since,omitzero" doc:"absent while it is not being retired"`
	Ended time.Time    `json:"ended,omitzero" doc:"when all was done"`
	Items []RetireItem `json:"items" nullable:"false"`
}

// RetireItem is one thing to be done when a device is retired.
type RetireItem struct {
	Step Step      `json:"step"`
	At   time.Time `json:"at,omitzero" doc:"when it was seen or told to be done"`
	By   string    `json:"by,omitempty" doc:"who told it; empty for what was observed"`
}

// Step is one step of a device's prep.
type Step struct {
	ID      string   `json:"id"`
	Gate    string   `json:"gate"`
	Who     string   `json:"who" enum:"hands,computer,automatic"`
	Title   string   `json:"title"`
	Text    string   `json:"text" doc:"the device's own words stand between **"`
	Note    string   `json:"note"`
	Where   []string `json:"where" nullable:"false"`
	Sight   string   `json:"sight" doc:"what will be seen"`
	Risk    string   `json:"risk"`
	Action  string   `json:"action" enum:",driver.install,support.fetch,host.give,link.restart,device.register,statement.put,admission.ask,introduction.begin,app.try"`
	Minutes int      `json:"minutes"`
	Done    bool     `json:"done"`
	Told    bool     `json:"told" doc:"done only because somebody said so"`
	Tell    bool     `json:"tell" doc:"a person may say that it is done"`
	Search  string   `json:"search" doc:"word for the settings' own search"`
	Again   bool     `json:"again" doc:"to be done every time, not once"`
	Seen    bool     `json:"seen" doc:"the bench can see for itself whether it is done"`
	Missing string   `json:"missing" doc:"what the bench lacks for it, and what to do instead; empty for nothing"`
	Account bool     `json:"account" doc:"it wants an account at an authority, and none is in use"`
	Denied  *Fact    `json:"denied" doc:"somebody's word that it is done, which what is seen stands against"`
	Draw    *Drawing `json:"draw"`
}

// Drawing describes where on the screen to tap.
type Drawing struct {
	Title string `json:"title"`
	Rows  int    `json:"rows"`
	Row   int    `json:"row"`
	Word  string `json:"word"`
	Taps  int    `json:"taps"`
	Form  string `json:"form" enum:"phone,tablet,keys,round"`
}

// Prep is a device's plan.
type Prep struct {
	Device Device           `json:"device"`
	Steps  []Step           `json:"steps" nullable:"false"`
	Offer  *DriverCandidate `json:"offer" doc:"the driver set to install for it"`
	Need   *SupportPack     `json:"need" doc:"the support pack that it lacks and a depot has"`
	Apps   []App            `json:"apps" nullable:"false" doc:"the apps that are on it, while it is linked"`
	// Lacks says what the way by which it is linked cannot do.
	Lacks map[string]string `json:"lacks" doc:"apps, files, log, screen: what the way by which it is linked does not have, each with a sentence"`
}

// App is an app on a device.
type App struct {
	ID      string `json:"id"`
	Name    string `json:"name"`
	Version string `json:"version"`
	Digest  string `json:"digest"`
	Running bool   `json:"running"`
}

// Fact is one thing known of a device.
type Fact struct {
	ID     string    `json:"id" doc:"of its line in a list, which after takes"`
	Key    string    `json:"key"`
	Value  any       `json:"value"`
	Text   string    `json:"text" doc:"as people read it"`
	Source string    `json:"source"`
	At     time.Time `json:"at"`
	By     string    `json:"by"`
	Good   bool      `json:"good"`
}

// Sheets are the active prep sheets, and what keeps newer ones from being so.
type Sheets struct {
	Items   []Sheet   `json:"items" nullable:"false"`
	Trouble []Mistake `json:"trouble" nullable:"false" doc:"mistakes for which the newest edit is not active"`
	Dir     string    `json:"dir" doc:"where sheets beside the bench lie"`
	Next    string    `json:"next,omitempty" doc:"the last item, if there are more"`
}

// Sheet is the prep sheet of one model.
type Sheet struct {
	Sheet     string     `json:"sheet"`
	File      string     `json:"file"`
	Own       bool       `json:"own" doc:"it lies beside the bench; others ship with it"`
	Taken     *time.Time `json:"taken" doc:"since when an own one is active"`
	Family    string     `json:"family"`
	Maker     string     `json:"maker"`
	Model     string     `json:"model"`
	Code      string     `json:"code"`
	USB       string     `json:"usb" doc:"empty for a device without a data port"`
	Releases  []string   `json:"releases" nullable:"false" doc:"from which on it says something else"`
	Languages []string   `json:"languages" nullable:"false"`
	Steps     int        `json:"steps"`
	Causes    int        `json:"causes"`
	Checks    int        `json:"checks"`
}

// AddedSheet tells where a sheet was put.
type AddedSheet struct {
	File    string    `json:"file"`
	Trouble []Mistake `json:"trouble" nullable:"false" doc:"mistakes of other sheets beside the bench, for which this one is not active either"`
}

// Mistake is one mistake in a sheet.
type Mistake struct {
	File   string `json:"file"`
	Line   int    `json:"line"`
	Column int    `json:"column"`
	Near   string `json:"near" doc:"the text that is wrong"`
	Text   string `json:"text"`
	Hint   string `json:"hint"`
}

// DeviceSheet is the sheet as it results for a device.
type DeviceSheet struct {
	Device string   `json:"device"`
	Sheet  string   `json:"sheet"`
	Model  string   `json:"model"`
	From   string   `json:"from" doc:"release from which on it holds; empty for any"`
	Below  string   `json:"below" doc:"release below which it holds; empty for any"`
	Paths  []string `json:"paths" nullable:"false"`
	Walk   []string `json:"walk" nullable:"false" doc:"of the path by which the device is computed"`
	Parts  []Part   `json:"parts" nullable:"false"`
}

// Part is one part of a sheet, and where it comes from.
type Part struct {
	Kind string `json:"kind" enum:"word,gate,step,cause,check"`
	Name string `json:"name"`
	Text string `json:"text"`
	File string `json:"file"`
	Line int    `json:"line"`
}

// Check is one part of the bench's own computer, as it was found.
type Check struct {
	ID     string `json:"id"`
	Title  string `json:"title"`
	State  string `json:"state" enum:"fine,limited,wrong,unknown" doc:"limited works with less comfort; unknown could not be looked at"`
	Found  string `json:"found"`
	Breaks string `json:"breaks" doc:"what does not work, or not well, because of it"`
	Remedy string `json:"remedy"`
}

// Project is an app's directory from which the bench may build.
type Project struct {
	App      string   `json:"app"`
	Name     string   `json:"name"`
	Version  string   `json:"version"`
	Families []string `json:"families" nullable:"false" doc:"that it is made for"`
	Dir      string   `json:"dir"`
	Trouble  string   `json:"trouble,omitempty"`
}

// Job is work that takes time.
type Job struct {
	ID      string      `json:"id"`
	Kind    string      `json:"kind"`
	Title   string      `json:"title"`
	Device  string      `json:"device"`
	Parent  string      `json:"parent" doc:"id of the job whose part it is"`
	Actor   string      `json:"actor" doc:"who began it"`
	State   string      `json:"state" enum:"waiting,running,done,failed,stopped,interrupted"`
	Phases  []Phase     `json:"phases" nullable:"false"`
	Error   *Trouble    `json:"error"`
	Result  *RunResult  `json:"result"`
	Put     *PutResult  `json:"put" doc:"of a job that puts a grant or a debug token on devices"`
	Kit     *FetchedKit `json:"kit,omitempty" doc:"of a job that fetches a kit"`
	Again   bool        `json:"again" doc:"it has ended and can be repeated"`
	Created time.Time   `json:"created"`
	Ended   *time.Time  `json:"ended"`
}

// Phase is one part of a job.
type Phase struct {
	Name  string     `json:"name"`
	State string     `json:"state"`
	Done  int64      `json:"done" doc:"bytes"`
	Total int64      `json:"total" doc:"bytes; 0 where they are not counted"`
	Note  string     `json:"note"`
	Asks  string     `json:"asks" doc:"what it waits for a person to do; empty for nothing"`
	Began *time.Time `json:"began"`
	Ended *time.Time `json:"ended"`
}

// Trouble is why something did not work, and what to do now.
type Trouble struct {
	Kind   string `json:"kind" enum:"blocked,person,gone,refused,invalid,not found,taken,changed,unsupported,unavailable,failed"`
	Text   string `json:"text"`
	Gate   string `json:"gate"`
	Remedy string `json:"remedy"`
}

// Tryout is a kept tryout.
type Tryout struct {
	ID      string    `json:"id"`
	Device  string    `json:"device"`
	App     string    `json:"app"`
	Version string    `json:"version"`
	Digest  string    `json:"digest"`
	Passed  bool      `json:"passed"`
	Outcome string    `json:"outcome" enum:"passed,failed,stopped,interrupted"`
	Failed  string    `json:"failed" doc:"why it did not pass; empty if it did"`
	Points  []Point   `json:"points" nullable:"false"`
	Log     []string  `json:"log" nullable:"false"`
	Picture bool      `json:"picture"`
	Created time.Time `json:"created"`
}

// Point is one thing that a tryout looked at.
type Point struct {
	Name string `json:"name"`
	OK   bool   `json:"ok"`
	Text string `json:"text"`
	Took int64  `json:"took_ms"`
}

// Line is one line of a device's log.
type Line struct {
	Seq   uint64    `json:"seq"`
	At    time.Time `json:"at"`
	App   string    `json:"app"`
	Level string    `json:"level"`
	Text  string    `json:"text"`
	Ended *Ended    `json:"ended,omitempty"`
}

// Ended says that an app has ended.
type Ended struct {
	Code   int    `json:"code"`
	Reason string `json:"reason" enum:"exited,crashed,stopped"`
}

// Change is what may be changed of a device's record.
type Change struct {
	Handle   *string `json:"handle,omitempty"`
	HandsURL *string `json:"hands_url,omitempty"`
	Key      *string `json:"device_key,omitempty" doc:"the fingerprint to pin, after the device was wiped"`
}

// Event is a CloudEvent (1.0, JSON) of /api/v1/events.
type Event struct {
	SpecVersion string    `json:"specversion"`
	ID          string    `json:"id"`
	Source      string    `json:"source"`
	Type        string    `json:"type"`
	Subject     string    `json:"subject"`
	Time        time.Time `json:"time"`
}

// Problem is an error of the HTTP interface (RFC 9457), with members of our
// own. It is an error.
type Problem struct {
	Type   string    `json:"type,omitempty"`
	Title  string    `json:"title"`
	Status int       `json:"status"`
	Detail string    `json:"detail"`
	Kind   string    `json:"kind,omitempty" doc:"blocked, person, gone, refused, invalid, not found, taken, changed, unsupported, unavailable, failed"`
	Gate   string    `json:"gate,omitempty"`
	Remedy string    `json:"remedy,omitempty"`
	Errors []Invalid `json:"errors,omitempty"`
}

// Invalid is one mistake in what was sent.
type Invalid struct {
	Message  string `json:"message"`
	Location string `json:"location"`
}

func (p *Problem) Error() string { return strings.TrimSpace(p.Sentence() + " " + p.Remedy) }

// Sentence says what is wrong, without what to do.
func (p *Problem) Sentence() string {
	s := p.Detail
	for _, e := range p.Errors {
		s += " " + e.Location + ": " + e.Message + "."
	}
	return s
}

// GetStatus is the HTTP status.
func (p *Problem) GetStatus() int { return p.Status }

// ContentType is that of RFC 9457.
func (p *Problem) ContentType(string) string { return "application/problem+json" }

// Tellable is a fact of a device that a person may state.
type Tellable struct {
	Key    string   `json:"key"`
	Text   string   `json:"text" doc:"what it tells"`
	Type   string   `json:"type" enum:"bool,int,text,texts,release,time"`
	Values []string `json:"values" nullable:"false" doc:"that it may have; empty for any"`
}
