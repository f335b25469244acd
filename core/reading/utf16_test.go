package reading

import (
	"bytes"
	"encoding/binary"
	"io"
	"testing"
	"testing/iotest"
	"unicode/utf16"
)

// Whatever the pieces in which it arrives, the text is the one that was
// encoded; the standard library's encoder is the oracle.
func TestUTF16IsDecodedInAnyPieces(t *testing.T) {
	const body = "plain\r\nGerät nicht gefunden\n錨を上げよ 🚢🚢 end"
	for _, order := range []binary.AppendByteOrder{binary.LittleEndian, binary.BigEndian} {
		var raw []byte
		for _, unit := range utf16.Encode([]rune("\ufeff" + body)) {
			raw = order.AppendUint16(raw, unit)
		}
		for name, r := range map[string]io.Reader{
			"whole":  bytes.NewReader(raw),
			"bytes":  iotest.OneByteReader(bytes.NewReader(raw)),
			"halves": iotest.HalfReader(bytes.NewReader(raw)),
		} {
			got, err := io.ReadAll(newUTF16Reader(r, order == binary.LittleEndian))
			if err != nil || string(got) != body {
				t.Errorf("%s: %q, %v", name, got, err)
			}
		}
		got, err := io.ReadAll(newUTF16Reader(bytes.NewReader(raw[:len(raw)-9]), order == binary.LittleEndian))
		if err != nil || !bytes.HasSuffix(got, []byte("�")) {
			t.Errorf("cut off: %q, %v", got, err)
		}
		if _, err := io.ReadAll(
			newUTF16Reader(iotest.TimeoutReader(iotest.HalfReader(bytes.NewReader(raw))), true),
		); err != iotest.ErrTimeout {
			t.Errorf("an error on the way: %v", err)
		}
	}
}
