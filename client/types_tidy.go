package client

import "time"

// Tidy is what can go of what the bench keeps, or what went.
type Tidy struct {
	Rules   TidyRules `json:"rules"`
	Rows    []TidyRow `json:"rows" nullable:"false"`
	Bytes   int64     `json:"bytes" doc:"of the files among the rows"`
	Files   int64     `json:"files" doc:"bytes of all files that are there"`
	Records int64     `json:"records" doc:"bytes of the records on disk"`
}

// TidyRow is what of one kind can go.
type TidyRow struct {
	Kind  string    `json:"kind" doc:"such as tryouts, app files"`
	Name  string    `json:"name" doc:"of a single thing; empty for several"`
	Count int       `json:"count"`
	Bytes int64     `json:"bytes" doc:"of files; 0 for records"`
	Why   string    `json:"why"`
	Since time.Time `json:"since" doc:"of the oldest among them"`
}

// TidyRules say for how many days what is kept, and in how much room.
type TidyRules struct {
	Tryouts int   `json:"tryouts_days" minimum:"1" maximum:"36500" doc:"the newest of each app on each device stays in any case"`
	Jobs    int   `json:"jobs_days" minimum:"1" maximum:"36500" doc:"jobs that have ended"`
	Apps    int   `json:"apps_days" minimum:"1" maximum:"36500" doc:"app files; the newest of each app stays in any case"`
	Packs   int   `json:"packs_days" minimum:"1" maximum:"36500" doc:"support packs that no device needs"`
	Audit   int   `json:"audit_days" minimum:"1" maximum:"36500" doc:"who did what, and the uses of the safe"`
	Most    int64 `json:"most_bytes" minimum:"1048576" doc:"of app files: beyond it the oldest go first"`
}
