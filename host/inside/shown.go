package inside

import (
	"fmt"
	"io"
	"sync"

	"github.com/hanwen/go-fuse/v2/fuse"

	"diorthos/core/block"
)

// A shown device is one that the kernel sees as a file. It is the only file of a file system.
type shown struct {
	fuse.RawFileSystem
	dev    block.Device
	server *fuse.Server
	folder string
	mu     *sync.RWMutex // of the draft: what is shown of it besides takes turns with this
}

// The nodes of the file system.
const (
	nodeRoot = fuse.FUSE_ROOT_ID
	nodeDisk = nodeRoot + 1
)

const (
	diskName   = "disk"
	longestRun = 1 << 20  // bytes of one read or write
	attrValid  = 3600 * 8 // seconds
)

// show mounts the file system at a folder, in the name space of the calling thread.
func show(dev block.Device, folder string, mu *sync.RWMutex) (*shown, error) {
	s := &shown{RawFileSystem: fuse.NewDefaultRawFileSystem(), dev: dev, folder: folder, mu: mu}
	server, err := fuse.NewServer(s, folder, &fuse.MountOptions{
		DirectMountStrict: true, MaxWrite: longestRun, MaxBackground: 32, Name: "diorthos", FsName: "draft",
		DisableXAttrs: true,
	})
	if err != nil {
		return nil, fmt.Errorf("show the draft to the kernel: %w", err)
	}
	s.server = server
	go server.Serve() // it ends when the file system is unmounted; Wait waits for it
	return s, server.WaitMount()
}

func (s *shown) attr(node uint64, a *fuse.Attr) fuse.Status {
	a.Ino, a.Nlink = node, 1
	switch node {
	case nodeRoot:
		a.Mode = fuse.S_IFDIR | 0o700
	case nodeDisk:
		a.Mode, a.Size = fuse.S_IFREG|0o600, uint64(s.dev.Size())
	default:
		return fuse.ENOENT
	}
	return fuse.OK
}

// Lookup finds the disk by its name.
func (s *shown) Lookup(_ <-chan struct{}, h *fuse.InHeader, name string, out *fuse.EntryOut) fuse.Status {
	if h.NodeId != nodeRoot || name != diskName {
		return fuse.ENOENT
	}
	out.NodeId, out.Generation, out.EntryValid, out.AttrValid = nodeDisk, 1, attrValid, attrValid
	return s.attr(nodeDisk, &out.Attr)
}

// GetAttr tells the size of the disk.
func (s *shown) GetAttr(_ <-chan struct{}, in *fuse.GetAttrIn, out *fuse.AttrOut) fuse.Status {
	out.AttrValid = attrValid
	return s.attr(in.NodeId, &out.Attr)
}

// SetAttr changes nothing: a disk has one size.
func (s *shown) SetAttr(_ <-chan struct{}, in *fuse.SetAttrIn, out *fuse.AttrOut) fuse.Status {
	if in.Valid&fuse.FATTR_SIZE != 0 && int64(in.Size) != s.dev.Size() {
		return fuse.EPERM
	}
	return s.attr(in.NodeId, &out.Attr)
}

// Open opens the disk; what was read stays known to the kernel.
func (s *shown) Open(_ <-chan struct{}, _ *fuse.OpenIn, out *fuse.OpenOut) fuse.Status {
	out.OpenFlags = fuse.FOPEN_KEEP_CACHE
	return fuse.OK
}

// Read reads from the draft.
func (s *shown) Read(_ <-chan struct{}, in *fuse.ReadIn, buf []byte) (fuse.ReadResult, fuse.Status) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	n, err := s.dev.ReadAt(buf[:min(len(buf), int(in.Size))], int64(in.Offset))
	if err != nil && err != io.EOF {
		return nil, fuse.EIO
	}
	return fuse.ReadResultData(buf[:n]), fuse.OK
}

// Write writes to the draft.
func (s *shown) Write(_ <-chan struct{}, in *fuse.WriteIn, data []byte) (uint32, fuse.Status) {
	s.mu.Lock()
	defer s.mu.Unlock()
	n, err := s.dev.WriteAt(data, int64(in.Offset))
	if err != nil {
		return uint32(n), fuse.EIO
	}
	return uint32(n), fuse.OK
}

// Fsync has nothing to do: a draft is in memory.
func (s *shown) Fsync(<-chan struct{}, *fuse.FsyncIn) fuse.Status { return fuse.OK }

// Flush has nothing to do.
func (s *shown) Flush(<-chan struct{}, *fuse.FlushIn) fuse.Status { return fuse.OK }
