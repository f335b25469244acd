package bag

import (
	"errors"
	"fmt"
	"io"
)

// Limits bound what reading a bag may cost. Sizes are in bytes.
type Limits struct {
	Total     int64 // all payload files together, unpacked
	File      int64 // one payload file
	Files     int   // how many
	Depth     int   // folders in a name
	Name      int   // length of a name
	Facts     int64 // the document of facts
	Values    int   // how many values the document of facts holds, and how deep it may be nested: MaxNesting
	Tags      int64 // the bag's own lists, all together
	Entries   int   // what the archive holds, folders counted too
	Ratio     int64 // unpacked to packed, counted once RatioFrom bytes are unpacked
	RatioFrom int64
	// Parsing, if it is not nil, holds as many as may parse facts at once: parsed, they are
	// many times their size.
	Parsing chan struct{}
}

// DefaultLimits suit a bag of one machine with large logs.
var DefaultLimits = Limits{
	Total: 16 << 30, File: 8 << 30, Files: 20_000, Depth: 24, Name: 1024, Facts: 8 << 20, Values: 200_000, Tags: 6 << 20,
	Entries: 60_000, Ratio: 800, RatioFrom: 64 << 20,
}

// The kinds of refusal. Every error that is the bag's own fault is an *Error
// that wraps one of them.
var (
	ErrNotABag   = errors.New("not a bag")
	ErrTruncated = errors.New("bag is cut off")
	ErrChecksum  = errors.New("checksum does not agree")
	ErrUnsafe    = errors.New("unsafe name")
	ErrTooLarge  = errors.New("over a limit")
	ErrFacts     = errors.New("facts are not valid")
)

// An Error says what is wrong with a bag, at which of its files, and what to
// do about it.
type Error struct {
	Kind error  // one of the Err… values
	Name string // the file inside the bag; may be empty
	Text string
	Do   string
}

func (e *Error) Error() string {
	where := ""
	if e.Name != "" {
		where = fmt.Sprintf("%q: ", e.Name)
	}
	return fmt.Sprintf("%s: %s%s; %s", e.Kind, where, e.Text, e.Do)
}

func (e *Error) Unwrap() error { return e.Kind }

// A File is one payload file of a bag. Its name is relative to the payload,
// such as "logs/apt/term.log".
type File struct {
	Name   string `json:"name"`
	Size   int64  `json:"size"`
	SHA256 string `json:"sha256"`
}

// Info describes a bag that was read to its end and found right.
type Info struct {
	// Digest is the SHA-256 of the bag's manifest, in hexadecimal: the same
	// for the same evidence, however it was compressed.
	Digest string
	Facts  *Facts
	Files  []File // all payload files but the facts, by name
}

// A Visitor is shown each payload file but the facts, in the order of the
// archive. What it does not read is skipped. Nothing it sees has been
// verified before Read returns without an error.
type Visitor func(file string, size int64, r io.Reader) error

// The names inside a bag, RFC 8493 section 2.
const (
	declarationName = "bagit.txt"
	infoName        = "bag-info.txt"
	manifestName    = "manifest-sha256.txt"
	tagManifestName = "tagmanifest-sha256.txt"
	payloadFolder   = "data/"
	factsName       = "facts.json"

	declaration = "BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n"
)
