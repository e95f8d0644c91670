package project

import "slices"

// Nearby is a device that is known to run on this machine. The token is what it
// asks for: it is one that ships with the demo, no secret.
type Nearby struct {
	Name    string `json:"name"`
	Address string `json:"address,omitempty"`
	Token   string `json:"token,omitempty"`
	Note    string `json:"note,omitempty"` // what is unusual about it, or why it does not run
}

// SetNearby says which devices run on this machine beside the application.
func (s *Devices) SetNearby(list []Nearby) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.nearby = slices.Clone(list)
}

// Nearby lists the devices that run on this machine beside the application.
func (s *Devices) Nearby() []Nearby {
	s.mu.Lock()
	defer s.mu.Unlock()
	return append([]Nearby{}, s.nearby...)
}
