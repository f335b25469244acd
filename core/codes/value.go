package codes

import (
	"fmt"
	"regexp"
	"slices"
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
	Slashed Form = "slashed" // bytes in hexadecimal, such as 3/11/00
)

// A Value is a code as a number, with the form in which it was written. A
// hexadecimal number of 64 bits whose top bit is set has a negative Number.
type Value struct {
	Number int64
	Form   Form
}

// String gives the number in the form in which it was written.
func (v Value) String() string {
	switch {
	case v.Form == Slashed:
		return fmt.Sprintf("%x/%02x/%02x", v.Number>>16&0xff, v.Number>>8&0xff, v.Number&0xff)
	case v.Form == Hex:
		return fmt.Sprintf("0x%x", uint64(v.Number))
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

var slashed = regexp.MustCompile(`^([0-9a-f]{1,2})/([0-9a-f]{1,2})/([0-9a-f]{1,2})$`)

// Parse reads a single code: hexadecimal with 0x or a trailing h, decimal,
// negative, or bytes with slashes. A number without a prefix that has letters
// is hexadecimal; one of eight digits that begins with 8 or 9, as failures do
// in many families, may be either, and both are returned, the more likely
// first.
func Parse(s string) ([]Value, error) {
	text := strings.ToLower(strings.NewReplacer(" ", "", "_", "").Replace(strings.TrimSpace(s)))
	if m := slashed.FindStringSubmatch(text); m != nil {
		n := int64(0)
		for _, part := range m[1:] {
			b, _ := strconv.ParseUint(part, 16, 8) // the pattern lets nothing else pass
			n = n<<8 | int64(b)
		}
		return []Value{{n, Slashed}}, nil
	}
	fail := func() ([]Value, error) {
		return nil, fmt.Errorf("codes: %q is not a code: want a number such as 28, -5, 0x80070070 or 3/11/00", s)
	}
	digits, negative := strings.CutPrefix(text, "-")
	hex, marked := strings.CutPrefix(digits, "0x")
	if !marked {
		hex, marked = strings.CutSuffix(digits, "h")
	}
	decimal, errDecimal := strconv.ParseUint(digits, 10, 63)
	sixteen, errHex := strconv.ParseUint(hex, 16, 64)
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

// inText finds numbers that look like codes in a sentence.
var inText = regexp.MustCompile(
	`(?i)\b0x[0-9a-f]{1,16}\b|\b[0-9a-f]{1,2}/[0-9a-f]{2}/[0-9a-f]{2}\b|(?:^|[\s(=:'"])-\d{1,10}\b|` +
		`\b[89a-f][0-9a-f]{7}\b|\b\d{1,10}\b`,
)

// Find lists the codes in a sentence, in order, each in both bases where it
// may be either. Bare decimal numbers count only where nothing stands that
// looks more like a code: sentences are full of them.
func Find(sentence string) []Value {
	var list []Value
	seen := map[Value]bool{}
	for _, m := range inText.FindAllString(sentence, -1) {
		values, err := Parse(strings.TrimLeft(m, " \t\n(=:'\""))
		if err != nil {
			continue
		}
		for _, v := range values {
			if !seen[v] {
				seen[v] = true
				list = append(list, v)
			}
		}
	}
	plain := func(v Value) bool { return v.Form == Decimal && v.Number >= 0 }
	if slices.ContainsFunc(list, func(v Value) bool { return !plain(v) }) {
		list = slices.DeleteFunc(list, plain)
	}
	return list
}
