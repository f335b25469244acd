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

// An Aside is something that was moved aside.
type Aside struct {
	Name   string `json:"name"` // under which it can be put back
	From   string `json:"from"` // where it was
	Digest string `json:"digest,omitempty"`
	Size   int64  `json:"size"` // bytes of what is in it
}

// A SettingChange gives a value to a name in a branch of the settings; an
// empty value takes the name out.
type SettingChange struct{ Branch, Name, Value string }
