module fellgate.invalid/callout

go 1.26
