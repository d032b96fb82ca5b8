package api

// Term is a word, state or finding with its meaning.
type Term struct {
	Name string `json:"name" example:"mending"`
	Kind string `json:"kind" example:"state of a delivery"`
	Text string `json:"text"`
}
