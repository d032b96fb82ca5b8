package api

// Answer is what is set in one place of what workstations are to become.
type Answer struct {
	Of     string `json:"of" doc:"Where: service, image:NAME, model:NAME, group:NAME or workstation:NAME"`
	Key    string `json:"key"`
	Value  any    `json:"value" doc:"As set; (set) for a secret"`
	Secret bool   `json:"secret,omitempty"`
}

// AnswerKey is something that a workstation can be told.
type AnswerKey struct {
	Key     string `json:"key"`
	Form    string `json:"form" doc:"What a value looks like, in words"`
	Example string `json:"example" doc:"A value, as YAML"`
	Doc     string `json:"description"`
	Asked   bool   `json:"can_be_asked,omitempty" doc:"Whether a value can be a question that somebody answers at the workstation"`
	Secret  bool   `json:"secret,omitempty" doc:"Whether its values are sealed, and never shown"`
}

// NewAnswers sets answers in one place, all or none.
type NewAnswers struct {
	Of     string         `json:"of" doc:"Where: service, image:NAME, model:NAME, group:NAME, workstation:NAME, or just the name of a group or workstation" minLength:"1" maxLength:"220" example:"group:herbarium"`
	Values map[string]any `json:"values" doc:"By key (docs/answers.md), as JSON or as a text in YAML; null unsets one" example:"{\"time_zone\":\"Europe/Vienna\"}"`
}

// ResolvedAnswers are the answers that count for a workstation.
type ResolvedAnswers struct {
	Workstation string           `json:"workstation"`
	Answers     []ResolvedAnswer `json:"answers" nullable:"false"`
	Problems    []string         `json:"problems" nullable:"false" doc:"What contradicts itself or is missing; nothing is delivered with answers then"`
}

// ResolvedAnswer is one of them.
type ResolvedAnswer struct {
	Key    string   `json:"key"`
	Value  any      `json:"value" doc:"As set; (set) for a secret"`
	Secret bool     `json:"secret,omitempty"`
	Set    string   `json:"set_by" doc:"Where it is set, in words"`
	Hides  []string `json:"hides" nullable:"false" doc:"Where else it is set and does not count"`
}

// AnswersPreview is what the answers of a workstation do to the system of an image.
type AnswersPreview struct {
	Workstation string          `json:"workstation"`
	Image       string          `json:"image" doc:"NAME or NAME@VERSION, as asked for"`
	System      string          `json:"system" doc:"In words"`
	Changes     []AnswersChange `json:"file_changes" nullable:"false"`
	Runs        []string        `json:"runs" nullable:"false" doc:"Programs of the system that are run in it"`
	Remarks     []string        `json:"remarks" nullable:"false" doc:"What cannot be done, and what to know"`
}

// AnswersChange is one change of the system's files.
type AnswersChange struct {
	Do      string `json:"action" enum:"write,remove,link,folder"`
	Path    string `json:"path" doc:"From the root of the system"`
	Target  string `json:"target,omitempty" doc:"Of a link"`
	Mode    string `json:"mode,omitempty" doc:"Permissions, octal"`
	Owner   string `json:"owner,omitempty" doc:"UID:GID, if not root's"`
	Before  string `json:"text_before,omitempty" doc:"The text that the golden machine has; empty if there is none, or if it is secret"`
	After   string `json:"text_after,omitempty" doc:"The text that the copy will have; empty if it is secret"`
	Secret  bool   `json:"secret,omitempty"`
	Because string `json:"because" doc:"The key, or another reason"`
}

// AnswersCheck tells of many workstations whether their answers fit together.
type AnswersCheck struct {
	Checked int              `json:"checked" doc:"Workstations"`
	InDoubt []AnswersProblem `json:"workstations_in_doubt" nullable:"false"`
}

// AnswersProblem is what is wrong with the answers of a workstation.
type AnswersProblem struct {
	Workstation string `json:"workstation"`
	Problem     string `json:"problem"`
}
