package system

import (
	"context"
	"os"
	"time"

	"diorthos/core/block"
	"diorthos/core/store"
	"diorthos/core/volumes"
)

// A Command is one of a system's own programs, to be run inside it.
type Command struct {
	Args  []string
	Env   []string // besides PATH, HOME and a plain language
	Input string   // what it reads; an answer to each question it asks
	// Network lets it reach the machine's network; it has none otherwise.
	Network bool
	// Limit is how long it may run; 0 for the longest that is allowed.
	Limit time.Duration
}

// An Output is what a program printed, both streams in the order in which it came, and how
// it ended. A program that was ended because its time was over has the status -1.
type Output struct {
	Text   string
	Status int
	Took   time.Duration
}

// An Inside is a system that was entered: its file systems are mounted for it alone, on a draft
// of its disk. Nothing reaches the disk before a journal has noted it.
type Inside interface {
	// Run runs a program of the system. An error means that it could not be run; one that
	// failed is an Output.
	Run(context.Context, Command) (Output, error)
	// Files are those of the system, with all that it mounts.
	Files() *os.Root
	// Free is how many bytes are free for the system's own tools on the volume of a folder, with what was changed.
	Free(folder string) (int64, error)
	// Changed lists what differs from how the system was entered: paths without a leading
	// slash, in order.
	Changed() ([]Change, error)
	// Leave takes the file systems away, so that the draft has all that was changed. It must
	// be called once; what was changed is in the draft only when it returns no error.
	Leave() error
}

// A Change is one file that is not as it was.
type Change struct {
	Path string
	How  ChangeKind
}

// A ChangeKind is what happened to a file.
type ChangeKind string

// The kinds of changes.
const (
	FileAdded   ChangeKind = "added"
	FileChanged ChangeKind = "changed"
	FileRemoved ChangeKind = "removed"
)

// An Enter enters the system on a volume of a draft; its errors say what it takes, where it
// cannot be done.
type Enter func(
	ctx context.Context, draft block.Device, keys *volumes.Keys, root Mount, mounts []Mount,
) (Inside, error)

// A Mount is a volume that a system mounts, and where.
type Mount struct {
	Volume    int
	Path      string // without a leading slash; empty for the root
	Subvolume string // where it is one of several trees of files on the volume
}

// Root is the mount of the system's own volume.
func (g Ground) Root() Mount { return Mount{Volume: g.System, Subvolume: g.Views[g.System].Sub()} }

// ToolOptions say how a system's own tools are let work.
type ToolOptions struct {
	Network bool           // they may fetch what is missing
	Sources []store.Source // where package files may come from besides
	Say     func(string)   // told what is being run; nil for nobody
	// Said is what was said where it failed, as the docket quotes it: what it names may be in the way.
	Said string
}

// ListOptions say how lists of packages are fetched anew.
type ListOptions struct {
	ToolOptions
	AcceptChange bool // a source may call itself something else than before
}
