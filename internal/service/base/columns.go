package base

// Column is a column of a result.
type Column struct {
	Name string `json:"name"`
	Type string `json:"type"`
	// Masked says that the caller may not see its values.
	Masked bool `json:"masked,omitempty" doc:"it may have values of sensitive columns in it, which the caller may not see"`
}
