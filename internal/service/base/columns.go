package base

// Column is a column of a result.
type Column struct {
	Name string `json:"name"`
	Type string `json:"type"`
}
