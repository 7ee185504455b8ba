package model

import (
	"bridgespan/core/finding"
	"bridgespan/core/survey"
)

// SurveyPlace is what one survey is about.
type SurveyPlace struct {
	Server string `json:"server" doc:"Server that holds the share"`
	Share  string `json:"share,omitempty" doc:"Share to survey; absent for every share that the server shows in lists"`
	Sub    string `json:"sub,omitempty" doc:"Folder below the share; absent for all of it"`
}

// NewSurveys asks for surveys: all of them are begun, or none.
type NewSurveys struct {
	Places []SurveyPlace `json:"places" minItems:"1" maxItems:"200" doc:"Each share gets a survey of its own, so that it can be compared with later ones"`
}

// Begun are the runs that a request began.
type Begun struct {
	Runs []Run `json:"runs"`
}

// Survey is what is in a share, and what should be known about it.
type Survey struct {
	Run      Run               `json:"run"`
	Server   string            `json:"server"`
	Share    string            `json:"share"`
	Sub      string            `json:"sub,omitempty"`
	Figures  survey.Figures    `json:"figures" doc:"What was counted; so far, while it runs"`
	Open     []OpenFile        `json:"open" doc:"Files that were open when it ended"`
	Findings []finding.Finding `json:"findings" doc:"What should be known about permissions"`
	Distinct int64             `json:"distinct" doc:"How many different sets of permissions there are"`
}

// SurveyComparison is how a share changed between two surveys.
type SurveyComparison struct {
	Before  Run               `json:"before"`
	After   Run               `json:"after"`
	Figures survey.Comparison `json:"figures"`
}
