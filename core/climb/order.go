package climb

import (
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"diorthos/core/knowledge"
)

// An Order is a rung of an approved climb that an agent carries out. It is bound to the machine,
// to the case and to the evidence that was diagnosed, and it expires.
type Order struct {
	ID       int64                  `json:"id"`
	Machine  string                 `json:"machine"`
	Case     int64                  `json:"case"`
	Evidence string                 `json:"evidence"` // digest of the bag that was diagnosed
	Rung     int                    `json:"rung"`
	Remedy   string                 `json:"remedy"`
	Level    knowledge.Invasiveness `json:"level"` // how invasive a rung was approved
	Approved string                 `json:"approved"`
	Expires  time.Time              `json:"expires"`
	Back     bool                   `json:"back,omitempty"` // undo what the rung did
}

// ErrNotOrdered means that an order is not one that may be carried out.
var ErrNotOrdered = errors.New("not a valid order")

// Sign writes an order down, with the signature of the service.
func (o Order) Sign(key ed25519.PrivateKey) (payload, signature []byte, err error) {
	payload, err = json.Marshal(o)
	if err != nil {
		return nil, nil, err
	}
	return payload, ed25519.Sign(key, payload), nil
}

// OpenOrder reads an order that the holder of a key has signed for a machine, and that has not
// expired.
func OpenOrder(payload, signature []byte, key ed25519.PublicKey, machine string, now time.Time) (*Order, error) {
	var o Order
	switch {
	case len(key) != ed25519.PublicKeySize || !ed25519.Verify(key, payload, signature):
		return nil, fmt.Errorf("%w: its signature is not that of the service", ErrNotOrdered)
	case json.Unmarshal(payload, &o) != nil:
		return nil, fmt.Errorf("%w: it cannot be read", ErrNotOrdered)
	case o.Machine != machine:
		return nil, fmt.Errorf("%w: it is for %s, and this is %s", ErrNotOrdered, o.Machine, machine)
	case now.After(o.Expires):
		return nil, fmt.Errorf("%w: it expired on %s", ErrNotOrdered, o.Expires.Format(time.DateTime))
	case o.Level == knowledge.Destroys:
		return nil, fmt.Errorf("%w: what destroys is never ordered", ErrNotOrdered)
	}
	return &o, nil
}
