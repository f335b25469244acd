// Package journald reads the binary journal of the service manager, from any file or image: also one
// that is cut off, damaged in the middle, or was still being written.
//
//	f, err := journald.Open(r, size)
//	for e := range f.Entries() { … e.Time, e.Field("MESSAGE") … }
//	for _, b := range journald.Boots(files…) { … b.ID, b.Reached, b.End … }
//
// The format is open: "Journal File Format" of the systemd project, with the compact mode and the
// compression flags of its version 252. A file is looked through from its first object to its last;
// of what is damaged the next object that makes sense is looked for, and the bytes between are counted.
package journald
