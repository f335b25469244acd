// Package format is the error of every parser of bytes.
//
//	return &format.Error{In: "ext", What: "superblock", Offset: 1024, Want: "0xef53", Got: "0x0000"}
package format

import "fmt"

// An Error says what in a file or on a device is not as its format has it.
type Error struct {
	In     string // the format, such as ext; may be empty
	What   string // the part of it, such as "primary GPT header"
	Offset int64  // bytes from the start; 0 where there is none, or it says nothing
	Want   string
	Got    string
}

func (e *Error) Error() string {
	text := e.What
	if e.In != "" {
		text = e.In + ": " + text
	}
	if e.Offset > 0 {
		text += fmt.Sprintf(" at byte %d", e.Offset)
	}
	return fmt.Sprintf("%s: want %s, got %s", text, e.Want, e.Got)
}
