package link

// Channel types and control methods; private names carry a domain (RFC 4250, section 4.6.1).
const (
	channelAdmit   = "admit@earlybench.invalid"
	channelControl = "control@earlybench.invalid"
	channelScreen  = "screen@earlybench.invalid"
	// channelCompanion leads to a device that is reached through this one.
	channelCompanion = "companion@earlybench.invalid"
	// channelPort leads to a port that a running app has open.
	channelPort = "port@earlybench.invalid"
	// channelStream is another stream to the device itself.
	channelStream = "stream@earlybench.invalid"

	MethodAdmitState  = "admit.state"
	MethodAdmitAsk    = "admit.ask"
	MethodAdmitChange = "admit.changed" // notification, to the bench
	MethodAdmitCancel = "admit.cancel"

	// The three messages of an introduction, in this order (docs/formats/introduction.md).
	MethodBegin  = "introduction.begin"
	MethodReveal = "introduction.reveal"
	MethodTyped  = "introduction.typed"

	// MethodAdmitWithdraw withdraws the admission of the bench that calls it.
	MethodAdmitWithdraw = "admit.withdraw"
	// MethodFind makes the device show its handle on this bench.
	MethodFind = "find"

	// Letting others in for a loan (docs/formats/lending.md).
	MethodAdmitAdd   = "admit.add"
	MethodAdmitDrop  = "admit.drop"
	MethodAdmitAdded = "admit.added"
	MethodAdmitUses  = "admit.uses"
	MethodAdmitUsed  = "admit.used" // notification, to the bench

	// MethodWireless switches on or off that the device is reached without a cable.
	MethodWireless = "wireless.set"

	MethodDescribe    = "describe"
	MethodFactsFollow = "facts.follow"
	MethodFact        = "fact"      // notification, to the bench
	MethodFactsAll    = "facts.all" // notification, to the bench: it has told all that it knows once
	MethodApps        = "apps"
	MethodAppOffer    = "app.offer"
	MethodAppSwitch   = "app.switch"
	MethodAppStart    = "app.start"
	MethodAppStop     = "app.stop"
	MethodAppRemove   = "app.remove"
	MethodStatements  = "statements"
	MethodPut         = "statement.put"
	MethodDrop        = "statement.drop"
	MethodStatus      = "status.put"
	MethodLogFollow   = "log.follow"
	MethodLog         = "log"       // notification, to the bench
	MethodAppEnded    = "app.ended" // notification, to the bench, behind the app's last line

	MethodCompanionsFollow = "companions.follow"
	MethodCompanions       = "companions" // notification, to the bench
)
