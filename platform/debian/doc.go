// Package debian knows where a Debian-family system keeps what Diorthos works
// with. It reads a system through an io/fs.FS, mounted or not.
//
//	if sys, ok := debian.Adapter{}.System(fsys); ok { … }
//
// Places: os-release(5), fstab(5), hostname(5), Debian Policy 4.6.
package debian
