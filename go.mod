module ivytable.example/ivytable

go 1.26.0

require golang.org/x/text v0.43.0
