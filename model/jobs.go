package model

import "time"

// Job is saved work that is done again and again.
type Job struct {
	ID          int64     `json:"id" doc:"Number of the job"`
	Kind        string    `json:"kind" doc:"What kind of work: that of its runs"`
	Subject     string    `json:"subject" doc:"What it is about"`
	Settings    string    `json:"settings" doc:"What is to be done, as JSON"`
	Rule        string    `json:"rule" doc:"When it is done: \"mon-fri 02:30\", \"daily 04:00\" or \"every 6h\""`
	Enabled     bool      `json:"enabled" doc:"Whether it is done"`
	Who         string    `json:"who" doc:"User who saved it"`
	Created     time.Time `json:"created"`
	Next        time.Time `json:"next" doc:"When it is due"`
	LastRun     int64     `json:"lastRun,omitempty" doc:"Number of its last run; absent when there was none"`
	LastState   string    `json:"lastState,omitempty" doc:"State of that run"`
	LastTrouble string    `json:"lastTrouble,omitempty" doc:"Why that run failed or stopped"`
	Version     int64     `json:"version" doc:"Goes up with every change; the ETag"`
}

// EditJob changes a job; what is absent stays.
type EditJob struct {
	Rule    *string `json:"rule,omitempty" doc:"When it is done"`
	Enabled *bool   `json:"enabled,omitempty" doc:"Whether it is done"`
}
