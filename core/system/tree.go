package system

import (
	"context"
	"io/fs"
	"time"

	"diorthos/core/bag"
	"diorthos/core/block"
)

// MenuOwed is a file below a draft of files that is there when the system's own tools wanted to make the
// loader's menu, which is made on the machine itself.
const MenuOwed = "run/menu-owed"

// A Tree is a draft of the files of a system that lies in a folder, such as those of the running
// machine. What is changed inside stays in the draft when it is left.
type Tree interface {
	// Files are those of the system as they are drafted.
	Files() fs.FS
	// Enter enters the system; one at a time.
	Enter(context.Context) (Inside, error)
}

// A TreeDraft is one that a journal can apply.
type TreeDraft interface {
	Tree
	// Writes lists what a journal has to write, and which paths have which places.
	Writes() ([]block.Write, []block.Place, error)
	// Close throws the draft away.
	Close() error
}

// A TreeTarget is the files of a system in a folder.
type TreeTarget interface {
	block.Device
	// Lay tells which paths have which places.
	Lay([]block.Place)
	// Marks are what the system is known again by.
	Marks() []string
	// Draft begins a draft.
	Draft() (TreeDraft, error)
}

// A FolderAdapter is an adapter whose systems can be looked at and changed wherever their files lie:
// no disk of theirs is needed.
type FolderAdapter interface {
	Adapter
	// OpenFolder opens the system of a tree to be changed.
	OpenFolder(Tree, Options) (System, error)
	// SurveyFolder adds to the facts how the parts of a system stand.
	SurveyFolder(root fs.FS, now time.Time, facts *bag.Facts)
	// FolderMarks are what a system is known again by.
	FolderMarks(root fs.FS) []string
	// LockFiles are those that the system's own tools lock while they change it.
	LockFiles() []string
	// MadeAnew are files that the system's own tools make again from others whenever those differ: a draft
	// keeps none of them.
	MadeAnew() []string
}
