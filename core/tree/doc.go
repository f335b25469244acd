// Package tree changes files of a system as if they were sectors of a disk: each path that a change
// is about has a place in a space of bytes, where what the path is can be read and written. So the
// journal that notes sectors notes files too, and everything that holds of it holds of them: notes
// before the change, resume, undo, refusal of what was changed since.
//
//	d, err := tree.Open("/mnt/target", false)
//	places, writes, err := d.Plan(tree.Changes{…}) // what a draft has in place of what is there
//	d.Lay(places)
//	err = journal.Apply(ctx, d, writes)
//
// What a path is: kind, owner, permissions, time, marks, extended attributes, content or target
// (stat(2), xattr(7), ioctl_iflags(2)). A path is taken at its word: no link on the way is followed.
package tree
