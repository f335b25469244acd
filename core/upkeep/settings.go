package upkeep

// A Branch of a system's settings. Damaged says why its values cannot be
// trusted; empty when they can.
type Branch struct {
	Name    string            `json:"name"`
	Owner   string            `json:"owner"`
	Grants  string            `json:"grants"` // in the system's words
	Values  map[string]string `json:"values"`
	Damaged string            `json:"damaged,omitempty"`
}
