package catalogue

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"strings"

	"diorthos/core/format"
)

// A Message is one entry of a catalogue.
type Message struct {
	Original    string
	Translation string
}

// A FormatError says where a catalogue is damaged.
type FormatError = format.Error

// Offsets in the header, in bytes, and the mark at its start.
const (
	mark             = 0x950412de
	offCount         = 8
	offOriginals     = 12
	offTranslations  = 16
	headerLength     = 20
	descriptorLength = 8 // length and offset of a string
	maxMessages      = 200_000
)

// Read reads the messages of a catalogue in either byte order. Of messages
// with several plural forms, the first of each counts. The text must be UTF-8,
// or Latin-1 by the catalogue's own header.
func Read(raw []byte) ([]Message, error) {
	if len(raw) < headerLength {
		return nil, &FormatError{
			In:     "catalogue",
			What:   "header",
			Offset: 0,
			Want:   fmt.Sprintf("%d bytes", headerLength),
			Got:    fmt.Sprint(len(raw)),
		}
	}
	var order binary.ByteOrder = binary.LittleEndian
	if order.Uint32(raw) != mark {
		order = binary.BigEndian
	}
	if got := order.Uint32(raw); got != mark {
		return nil, &FormatError{
			In:     "catalogue",
			What:   "mark",
			Offset: 0,
			Want:   fmt.Sprintf("0x%x", uint32(mark)),
			Got:    fmt.Sprintf("0x%x", got),
		}
	}
	count := int(order.Uint32(raw[offCount:]))
	if count > maxMessages || count*2*descriptorLength > len(raw) {
		return nil, &FormatError{
			In:     "catalogue",
			What:   "count",
			Offset: offCount,
			Want:   "one that fits the file",
			Got:    fmt.Sprint(count),
		}
	}
	originals, translations := int64(order.Uint32(raw[offOriginals:])), int64(order.Uint32(raw[offTranslations:]))
	list := make([]Message, 0, count)
	latin := false
	for i := range count {
		original, err := text(raw, order, originals+int64(i)*descriptorLength)
		if err != nil {
			return nil, err
		}
		translation, err := text(raw, order, translations+int64(i)*descriptorLength)
		if err != nil {
			return nil, err
		}
		if len(original) == 0 { // the catalogue's own header
			latin = strings.Contains(strings.ToLower(string(translation)), "charset=iso-8859-1")
			continue
		}
		if _, after, ok := bytes.Cut(original, []byte{4}); ok { // a context before the message
			original = after
		}
		list = append(list, Message{decode(original, false), decode(translation, latin)})
	}
	return list, nil
}

// text is the string whose descriptor stands at an offset, up to a NUL, after
// which a plural form follows.
func text(raw []byte, order binary.ByteOrder, at int64) ([]byte, error) {
	if at < 0 || at+descriptorLength > int64(len(raw)) {
		return nil, &FormatError{
			In:     "catalogue",
			What:   "descriptor",
			Offset: int64(at),
			Want:   "one inside the file",
			Got:    fmt.Sprintf("a file of %d bytes", len(raw)),
		}
	}
	length, offset := int64(order.Uint32(raw[at:])), int64(order.Uint32(raw[at+4:]))
	if offset+length > int64(len(raw)) {
		return nil, &FormatError{
			In:     "catalogue",
			What:   "string",
			Offset: int64(offset),
			Want:   "one inside the file",
			Got:    fmt.Sprintf("%d bytes", length),
		}
	}
	s, _, _ := bytes.Cut(raw[offset:offset+length], []byte{0})
	return s, nil
}

func decode(b []byte, latin bool) string {
	if !latin {
		return strings.ToValidUTF8(string(b), "\ufffd")
	}
	runes := make([]rune, len(b))
	for i, c := range b {
		runes[i] = rune(c)
	}
	return string(runes)
}
