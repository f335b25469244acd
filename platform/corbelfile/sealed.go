package corbelfile

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"strings"

	"diorthos/core/format"
)

// A FormatError says where a file of Corbel is not as it should be.
type FormatError = format.Error

// Hash names bytes: the first sixteen hexadecimal digits of their SHA-256.
func Hash(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:8])
}

// Seal writes v as JSON under a first line that names the kind of file and the
// hash of all that follows.
func Seal(kind string, v any) []byte {
	body, err := json.MarshalIndent(v, "", " ")
	if err != nil {
		panic(err) // only types of this package are sealed
	}
	body = append(body, '\n')
	return append([]byte(fmt.Sprintf("%s 1 %s\n", kind, Hash(body))), body...)
}

// Unseal reads what Seal wrote, and refuses it when a byte was changed.
func Unseal(kind string, raw []byte, v any) error {
	line, body, found := bytes.Cut(raw, []byte("\n"))
	words := strings.Fields(string(line))
	if !found || len(words) != 3 || words[0] != kind || words[1] != "1" {
		return &FormatError{
			In:   "corbel",
			What: kind + ": first line",
			Want: kind + " 1 HASH",
			Got:  fmt.Sprintf("%.40q", line),
		}
	}
	if got := Hash(body); got != words[2] {
		return &FormatError{In: "corbel", What: kind + ": hash", Want: words[2], Got: got}
	}
	if err := json.Unmarshal(body, v); err != nil {
		return &FormatError{In: "corbel", What: kind + ": body", Want: "JSON", Got: err.Error()}
	}
	return nil
}

// Encode writes a state file that bears no hash.
func Encode(v any) []byte {
	body, err := json.MarshalIndent(v, "", " ")
	if err != nil {
		panic(err) // only types of this package are encoded
	}
	return append(body, '\n')
}

// Decode reads a state file that bears no hash; name is used in messages.
func Decode(name string, raw []byte, v any) error {
	if err := json.Unmarshal(raw, v); err != nil {
		return &FormatError{In: "corbel", What: name, Want: "JSON", Got: err.Error()}
	}
	return nil
}
