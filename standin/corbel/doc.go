// Package corbel is the stand-in for a closed desktop system: it builds
// machines, lets them try updates and start, and breaks them. What it lets
// happen comes from the state of a machine alone: its disk image, of which
// every part can be checked by other tools, and its nameplate.
//
//	m, err := corbel.Build(folder, corbel.Options{Seed: 7, Mode: "uefi"})
//	err = corbel.FaultNamed("payload-altered").Break(m)
//	outcome, err := m.Attempt(ctx, corbel.Request{Offer: "U7215", At: at, Vendor: vendor})
//
// It knows nothing of diagnosis. docs/formats/corbel.md says what its files
// look like.
package corbel
