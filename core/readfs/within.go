package readfs

import (
	"errors"
	"io/fs"
	"os"
	"path"
	"strings"
	"syscall"
)

// Within reads a folder as a system that starts from it would: a link to an absolute path leads from the folder's own
// root, and none leads out of it.
func Within(root *os.Root) fs.FS { return within{root} }

type within struct{ root *os.Root }

// mostLinks is how many links a path may lead through, as the kernel has it.
const mostLinks = 40

// at does something at a name. Most names lead through no absolute link: those are taken as they are.
func at[T any](w within, op, name string, do func(string) (T, error)) (T, error) {
	if !fs.ValidPath(name) {
		var none T
		return none, &fs.PathError{Op: op, Path: name, Err: fs.ErrInvalid}
	}
	v, err := do(name)
	if err == nil || errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrPermission) {
		return v, err
	}
	to, why := w.resolved(name)
	if why != nil {
		return v, &fs.PathError{Op: op, Path: name, Err: why}
	}
	if to == name {
		return v, err
	}
	return do(to)
}

// resolved is the name without the links that it leads through.
func (w within) resolved(name string) (string, error) {
	done, rest := ".", name
	for links := 0; rest != "" && rest != "."; {
		part, after, _ := strings.Cut(rest, "/")
		rest = after
		if part == "" || part == "." {
			continue
		}
		if part == ".." {
			done = path.Dir(done) // "." stays: nothing is above the root
			continue
		}
		next := path.Join(done, part)
		to, err := w.root.Readlink(next)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			return "", syscall.ENOENT
		case err != nil: // no link
			done = next
			continue
		}
		if links++; links > mostLinks {
			return "", syscall.ELOOP
		}
		if strings.HasPrefix(to, "/") {
			done = "."
		}
		rest = strings.Trim(strings.Trim(to, "/")+"/"+rest, "/")
	}
	return done, nil
}

func (w within) Open(name string) (fs.File, error) {
	return at(w, "open", name, func(n string) (fs.File, error) { return w.root.Open(n) })
}

func (w within) Stat(name string) (fs.FileInfo, error) {
	return at(w, "stat", name, w.root.Stat)
}

func (w within) ReadFile(name string) ([]byte, error) {
	return at(w, "open", name, w.root.ReadFile)
}

func (w within) ReadDir(name string) ([]fs.DirEntry, error) {
	return at(w, "open", name, func(n string) ([]fs.DirEntry, error) { return fs.ReadDir(w.root.FS(), n) })
}

// behind does something at a name itself, behind the links that lead to its folder.
func behind[T any](w within, op, name string, do func(string) (T, error)) (T, error) {
	v, err := do(name)
	if err == nil || errors.Is(err, fs.ErrNotExist) || !fs.ValidPath(name) {
		return v, err
	}
	folder, why := w.resolved(path.Dir(name))
	if why != nil {
		return v, &fs.PathError{Op: op, Path: name, Err: why}
	}
	return do(path.Join(folder, path.Base(name)))
}

func (w within) Lstat(name string) (fs.FileInfo, error) {
	return behind(w, "lstat", name, w.root.Lstat)
}

func (w within) ReadLink(name string) (string, error) {
	return behind(w, "readlink", name, w.root.Readlink)
}
