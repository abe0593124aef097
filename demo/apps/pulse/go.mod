module fellgate.invalid/pulse

go 1.26
