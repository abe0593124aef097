module fellgate.invalid/muster

go 1.26
