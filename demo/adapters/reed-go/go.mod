module reed-go

go 1.26
