package codes

import (
	"fmt"
	"strconv"
	"strings"
)

// A Form is how a code was written.
type Form string

// The forms. A bare number may be meant in either base, so Parse gives it
// both values.
const (
	Decimal Form = "decimal"
	Hex     Form = "hexadecimal"
)

// A Value is a code as a number, with the form in which it was written.
type Value struct {
	Number int64
	Form   Form
}

// String gives the number in the form in which it was written.
func (v Value) String() string {
	if v.Form == Hex {
		return fmt.Sprintf("0x%x", uint64(v.Number)&0xffffffff)
	}
	return strconv.FormatInt(v.Number, 10)
}

// Bits is the number as the 32 bits in which it is stored. ok is false when
// it does not fit.
func (v Value) Bits() (bits uint32, ok bool) {
	if v.Number < -1<<31 || v.Number > 1<<32-1 {
		return 0, false
	}
	return uint32(v.Number), true
}

// Parse reads a single code: hexadecimal with 0x or a trailing h, decimal,
// negative. A number without a prefix that has letters is hexadecimal; one of
// eight digits without letters may be either, and both are returned, the more
// likely first.
func Parse(s string) ([]Value, error) {
	text := strings.ToLower(strings.NewReplacer(" ", "", "_", "").Replace(strings.TrimSpace(s)))
	fail := func() ([]Value, error) {
		return nil, fmt.Errorf("codes: %q is not a code: want a number such as 28, -5 or 0x80070070", s)
	}
	digits, negative := strings.CutPrefix(text, "-")
	hex, marked := strings.CutPrefix(digits, "0x")
	if !marked {
		hex, marked = strings.CutSuffix(digits, "h")
	}
	decimal, errDecimal := strconv.ParseUint(digits, 10, 63)
	sixteen, errHex := strconv.ParseUint(hex, 16, 63)
	sign := int64(1)
	if negative {
		sign = -1
	}
	asDecimal, asHex := Value{sign * int64(decimal), Decimal}, Value{sign * int64(sixteen), Hex}
	switch {
	case marked && errHex == nil:
		return []Value{asHex}, nil
	case marked:
		return fail()
	case errDecimal == nil && len(digits) == 8 && digits[0] >= '8':
		return []Value{asHex, asDecimal}, nil
	case errDecimal == nil:
		return []Value{asDecimal}, nil
	case errHex == nil && len(hex) >= 3:
		return []Value{asHex}, nil
	}
	return fail()
}
