// Package plain tells texts that can be kept from those that no database keeps: with a NUL, U+0000, or in no UTF-8.
package plain

import (
	"bytes"
	"strings"
	"unicode/utf8"
)

// escaped is a NUL in a string of JSON.
var escaped = []byte(`\u0000`)

// Text reports whether a text can be kept.
func Text(s string) bool { return utf8.ValidString(s) && strings.IndexByte(s, 0) < 0 }

// NULIn tells where JSON holds a NUL, as it is or escaped; -1 for nowhere.
func NULIn(json []byte) int {
	for i := 0; i < len(json); i++ {
		switch {
		case json[i] == 0:
			return i
		case json[i] != '\\':
		case bytes.HasPrefix(json[i:], escaped):
			return i
		default:
			i++ // what is escaped cannot begin an escape
		}
	}
	return -1
}

// WithoutNUL puts U+FFFD in JSON where it holds an escaped NUL.
func WithoutNUL(json []byte) []byte {
	for at := 0; ; {
		n := NULIn(json[at:])
		if n < 0 {
			return json
		}
		at += n + 1
		if json[at-1] == '\\' {
			copy(json[at-1:], `\ufffd`)
		}
	}
}
