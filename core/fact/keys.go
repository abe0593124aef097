package fact

import "time"

// The keys that every family has. Sheets declare further ones of their own.
const (
	USBPresent    Key = "usb.present"
	USBInterfaces Key = "usb.interfaces"
	USBLink       Key = "usb.link"
	USBRelease    Key = "usb.release"
	USBErrors     Key = "usb.errors"
	USBBreaks     Key = "usb.breaks"
	USBHolder     Key = "usb.holder"
	USBLent       Key = "usb.lent"
	USBDenied     Key = "usb.denied"
	USBReturns    Key = "usb.returns"
	USBLeft       Key = "usb.left"
	AirSeen       Key = "air.seen"
	AirNear       Key = "air.near"
	AirNetwork    Key = "air.network"
	AirAddress    Key = "air.address"
	AirNetworks   Key = "air.networks"
	AirHotspot    Key = "air.hotspot"
	AirQuiet      Key = "air.quiet"
	CompanionSeen Key = "companion.seen"
	CompanionNear Key = "companion.near"
	CompanionOf   Key = "companion.of"
	LoanSeen      Key = "loan.seen"
	LoanOf        Key = "loan.of"
	LoanEnds      Key = "loan.ends"
	LoanAway      Key = "loan.away"
	LoanStep      Key = "loan.step"
	AdapterSeen   Key = "adapter.seen"
	DriverBound   Key = "driver.bound"
	DriverSet     Key = "driver.set"
	DriverOffered Key = "driver.offered"
	DriverState   Key = "driver.state"
	AdmitState    Key = "admit.state"
	AdmitEnds     Key = "admit.ends"
	AdmitNumber   Key = "admit.number"
	AdmitLapses   Key = "admit.lapses"
	LinkUp        Key = "link.up"
	LinkKey       Key = "link.key"
	LinkTrouble   Key = "link.trouble"
	LinkShown     Key = "link.shown"
	ModeComputers Key = "mode.computers"
	OSRelease     Key = "device.release"
	Language      Key = "device.language"
	Battery       Key = "device.battery"
	Free          Key = "device.free"
	Locked        Key = "device.locked"
	Asleep        Key = "device.asleep"
	Met           Key = "device.met"
	DeviceClock   Key = "device.clock"
	HostClock     Key = "host.clock"
	KitState      Key = "kit.state"
	SignerState   Key = "signer.state"
	SignerOf      Key = "signer.of"
	KitName       Key = "kit.name"
	KitVersion    Key = "kit.version"
	KitAmiss      Key = "kit.amiss"
	KitOffer      Key = "kit.offer"
	DepotState    Key = "depot.state"
	SupportState  Key = "support.state"
	AuthorityUp   Key = "authority.state"
	AccountState  Key = "account.state"
	Standing      Key = "account.standing"
	RegisterState Key = "register.state"
	CrewNumber    Key = "account.crew"
	GrantState    Key = "grant.state"
	GrantEnds     Key = "grant.ends"
	TokenState    Key = "token.state"
	TokenEnds     Key = "token.ends"
	// Statements are the grants and debug tokens on a device, as they were signed.
	Statements Key = "device.statements"
	// Developers are named by the thumbprints of their keys.
	AcceptDevelopers Key = "accept.developers"
	AcceptStopped    Key = "accept.stopped"
	AcceptChallenge  Key = "accept.challenge"
	AppInstalled     Key = "app.installed"
	AppName          Key = "app.name"
	AppFamilies      Key = "app.families"
	AppNeeds         Key = "app.needs"
	AppVersion       Key = "app.version"
	AppDeveloper     Key = "app.developer"
	AppSigned        Key = "app.signed"
	AppFeatures      Key = "app.features"
	AppDebug         Key = "app.debug"
	AppTried         Key = "app.tried"
	AppFailed        Key = "app.failed"
)

// How long facts are good that are not observed all the time.
const (
	minutes = 10 * time.Minute
	hours   = 12 * time.Hour
)

// Builtin returns the declarations of the keys above.
func Builtin() []Spec {
	var specs []Spec
	for _, part := range [][]Spec{onTheBus(), overTheLink(), ofTheComputer(), ofTheMaker(), ofAnApp()} {
		specs = append(specs, part...)
	}
	return specs
}

func onTheBus() []Spec {
	cable := func(k Key, t Type, text string, sources ...Source) Spec {
		return Spec{Key: k, Type: t, Sources: sources, Ends: EndsUnplug, Text: text}
	}
	return []Spec{
		cable(USBPresent, Bool, "on the bus", Bus),
		cable(USBInterfaces, Texts, "interfaces on the bus", Bus),
		cable(USBLink, Bool, "the device link is among its interfaces", Bus),
		cable(USBRelease, Version, "release that its descriptor states", Bus),
		{Key: USBErrors, Type: Int, Sources: []Source{Bus, Host}, Good: minutes, Text: "transfers that failed on the wire in the last ten minutes"},
		{Key: USBBreaks, Type: Int, Sources: []Source{Bus, Host}, Good: minutes, Text: "times it left the bus in the last ten minutes"},
		{Key: USBLeft, Type: Moment, Sources: []Source{Bus}, Good: minutes, Text: "left the bus"},
		{Key: USBReturns, Type: Moment, Sources: []Source{Bus}, Good: time.Hour, Text: "by when it is back from a restart, as usual"},
		cable(USBHolder, Text, "who holds it on its host", Bus, Host),
		cable(USBLent, Text, "to whom its USB is lent", Bus),
		cable(USBDenied, Text, "why its host may not open it", Host),
		cable(AirSeen, Bool, "heard on the network", Host),
		{Key: AirNear, Type: Bool, Sources: []Source{Host}, Good: 2 * time.Minute, Text: "one of its family that was not introduced is heard on the network"},
		{Key: AirQuiet, Type: Bool, Sources: []Source{Host}, Good: 2 * time.Minute, Text: "no announcement of any other device is heard on the networks of this computer"},
		{Key: AirNetwork, Type: Text, Sources: []Source{Host, Device, Person}, Good: hours, Text: "network it is on: same, other, hotspot"},
		cable(CompanionSeen, Bool, "the device through which it is reached hears it", Host),
		{Key: CompanionNear, Type: Bool, Sources: []Source{Host}, Good: 2 * time.Minute, Text: "the device through which it is reached hears one of its family that was not introduced"},
		{Key: CompanionOf, Type: Text, Sources: []Source{Host, Person}, Text: "device through which it is reached"},
		cable(LoanSeen, Bool, "a peer lends it to this bench", Host),
		cable(LoanEnds, Moment, "the loan ends", Host),
		{Key: LoanAway, Type: Text, Sources: []Source{Host}, Text: "why its lender does not reach it"},
		{Key: LoanStep, Type: Text, Sources: []Source{Host}, Text: "what hands have to do at its lender"},
		{Key: LoanOf, Type: Text, Sources: []Source{Host}, Text: "peer that lends it"},
		cable(AdapterSeen, Bool, "its adapter has recognised it", Host),
		cable(DriverBound, Bool, "the host has bound a driver to the device link", Host),
		cable(DriverSet, Text, "driver set that is bound", Host),
		cable(DriverState, Text, "driver on the host: missing, offered (by a depot), service (its update service has it), fetched, unsigned, similar, bound", Host),
		{Key: DriverOffered, Type: Text, Sources: []Source{Host}, Text: "driver set here that fits"},
	}
}

func overTheLink() []Spec {
	link := func(k Key, t Type, text string, sources ...Source) Spec {
		return Spec{Key: k, Type: t, Sources: sources, Ends: EndsLink, Text: text}
	}
	return []Spec{
		{Key: AdmitState, Type: Text, Sources: []Source{Device}, Ends: EndsUnplug, Text: "this bench's key on the device"},
		{Key: AdmitEnds, Type: Moment, Sources: []Source{Device}, Ends: EndsUnplug, Text: "admission ends"},
		{Key: AdmitLapses, Type: Moment, Sources: []Source{Device}, Ends: EndsUnplug, Text: "its question goes away"},
		{Key: AdmitNumber, Type: Text, Sources: []Source{Device}, Ends: EndsUnplug, Text: "number that this bench shows for its question"},
		link(LinkUp, Bool, "the bench is connected to the device and knows that it is this one", Device),
		{Key: LinkKey, Type: Text, Sources: []Source{Device}, Ends: EndsUnplug, Text: "device key"},
		{Key: LinkShown, Type: Text, Sources: []Source{Device}, Ends: EndsUnplug, Text: "device key that it showed instead of the pinned one"},
		{Key: LinkTrouble, Type: Text, Sources: []Source{Device}, Ends: EndsUnplug, Text: "last attempt to link"},
		link(ModeComputers, Text, "computers may", Device),
		{Key: OSRelease, Type: Version, Sources: []Source{Device, Bus, Adapter}, Text: "OS release"},
		{Key: Language, Type: Text, Sources: []Source{Device, Adapter, Person}, Text: "language of its screens"},
		{Key: Battery, Type: Int, Sources: []Source{Device, Adapter}, Good: minutes, Ends: EndsLink, Text: "battery, per cent"},
		link(Free, Int, "free storage, bytes", Device, Adapter),
		{Key: Locked, Type: Bool, Sources: []Source{Device, Adapter, Person}, Good: minutes, Ends: EndsUnplug, Text: "locked"},
		{Key: Asleep, Type: Bool, Sources: []Source{Device, Adapter, Host, Person}, Good: minutes, Text: "asleep"},
		{Key: Met, Type: Bool, Sources: []Source{Device}, Text: "was linked with this bench before"},
		{Key: AirNetworks, Type: Texts, Sources: []Source{Device}, Good: hours, Text: "networks that the device is on"},
		{Key: AirHotspot, Type: Bool, Sources: []Source{Device}, Good: hours, Text: "its network is the hotspot of a handset"},
		link(AirAddress, Text, "address at which it listens without a cable", Device),
		link(DeviceClock, Int, "seconds its clock is off", Device, Adapter),
	}
}

func ofTheComputer() []Spec {
	return []Spec{
		{Key: HostClock, Type: Int, Sources: []Source{Authority, Host}, Good: hours, Text: "seconds this computer's clock is off"},
		{Key: SignerState, Type: Text, Sources: []Source{Host}, Text: "whether a peer signs the app: none (this bench signs it), ready, away (not connected), refused, locked (its safe is)"},
		{Key: SignerOf, Type: Text, Sources: []Source{Host}, Text: "peer that signs the app"},
		{Key: KitState, Type: Text, Sources: []Source{Host}, Text: "kit that builds the app: here, missing, program (a build without a kit names one that is missing), path (on the computer, not on the search path), broken, version (none fits), unknown (not described)"},
		{Key: KitName, Type: Text, Sources: []Source{Host}, Text: "kit that builds the app, or the program of its build"},
		{Key: KitVersion, Type: Text, Sources: []Source{Host}, Text: "version of the copy of the kit"},
		{Key: KitAmiss, Type: Text, Sources: []Source{Host}, Text: "why the app cannot be built here"},
		{Key: KitOffer, Type: Text, Sources: []Source{Host}, Text: "another copy of the kit that can be used, once it is named"},
		{Key: DepotState, Type: Text, Sources: []Source{Host}, Good: minutes, Text: "depot: up, slow, cut, down"},
		{Key: SupportState, Type: Text, Sources: []Source{Host}, Text: "support pack for its release: here, missing, partly, outdated"},
	}
}

func ofTheMaker() []Spec {
	return []Spec{
		{Key: AuthorityUp, Type: Text, Sources: []Source{Host}, Good: minutes, Text: "authority: up, slow, down"},
		{Key: AccountState, Type: Text, Sources: []Source{Authority, Host, Person}, Good: hours, Text: "account: in, out"},
		{Key: Standing, Type: Text, Sources: []Source{Authority, Person}, Good: hours, Text: "standing: enough, low"},
		{Key: CrewNumber, Type: Text, Sources: []Source{Authority}, Good: hours, Text: "number of the crew"},
		{Key: RegisterState, Type: Text, Sources: []Source{Authority, Device, Person}, Good: hours, Text: "register: in, out, full"},
		{Key: GrantState, Type: Text, Sources: []Source{Device, Authority}, Good: hours, Text: "grant: good, none, ended, withdrawn, other, unnamed, identity, unsigned (the app is), lacking (what the app uses)"},
		{Key: GrantEnds, Type: Moment, Sources: []Source{Device, Authority}, Text: "grant ends"},
		{Key: TokenState, Type: Text, Sources: []Source{Device, Authority}, Good: hours, Text: "debug token: good, none, ended, withdrawn, other, unnamed, lacking (what the app uses)"},
		{Key: TokenEnds, Type: Moment, Sources: []Source{Device, Authority}, Text: "debug token ends"},
		{Key: Statements, Type: Texts, Sources: []Source{Device}, Text: "grants and debug tokens on the device"},
		{Key: AcceptDevelopers, Type: Texts, Sources: []Source{Device}, Text: "developers that its owner has accepted"},
		{Key: AcceptStopped, Type: Texts, Sources: []Source{Device}, Text: "developers whose apps it has stopped, since its owner has not accepted them"},
		{Key: AcceptChallenge, Type: Text, Sources: []Source{Device}, Ends: EndsLink, Text: "challenge from which the bench makes the figures to accept a developer"},
	}
}

func ofAnApp() []Spec {
	return []Spec{
		{Key: AppInstalled, Type: Text, Sources: []Source{Device}, Ends: EndsLink, Text: "installed app file"},
		{Key: AppName, Type: Text, Sources: []Source{Host}, Text: "name of the app"},
		{Key: AppFamilies, Type: Texts, Sources: []Source{Host}, Text: "families that the app is made for"},
		{Key: AppNeeds, Type: Version, Sources: []Source{Host}, Text: "least OS release that the app runs on"},
		{Key: AppVersion, Type: Text, Sources: []Source{Host}, Text: "version of the app that is here"},
		{Key: AppDeveloper, Type: Text, Sources: []Source{Host}, Text: "developer by whose key the app is signed"},
		{Key: AppDebug, Type: Bool, Sources: []Source{Host}, Text: "the app is built to be debugged"},
		{Key: AppFeatures, Type: Texts, Sources: []Source{Host}, Text: "app features that it uses"},
		{Key: AppSigned, Type: Bool, Sources: []Source{Host}, Text: "a signing identity signs the app, not a bare key"},
		{Key: AppTried, Type: Bool, Sources: []Source{Device}, Text: "a kept tryout of the app passed"},
		{Key: AppFailed, Type: Text, Sources: []Source{Device}, Text: "what the last tryout ended at"},
	}
}
