# Read by test.sh and race.sh: tests that are not run like the others, as parts of one pattern.

# These only compute: under the race detector they take minutes.
compute='TestBrokenSheetsAreRefusedInTheirPlaceAndNeverCrash|TestConditionsComeToATruthEvenWhereFactsAreMissing|TestTheEngineIsNearlyAsGoodAsLookingAtEverything|TestEveryScreenIsDrawn|TestAnAppThatFitsNoMoreIsRefusedBeforeAByteIsSent'
# These run alone: they measure, or open a port at which boards of other tests would find a screen.
measure='TestTwoHundredDevicesThatAnnounceThemselvesAtOnceAreLinkedSoonAndCostLittle|TestBogusAnnouncementsHarmNoKnownDevice|TestABorrowedDeviceIsOfUseOverALongLine|TestManyReadersOfTheEventsHoldNobodyUp|TestFiveHundredDevicesAreRegisteredWithinItsLimits|TestPortsOfABoardAreOpenedHere'
