// Package inside runs a system's own tools inside it, on a draft of its disk.
//
// The draft is shown to the kernel as a file of a small file system in user space, that file as
// a disk, and the partitions of that disk are mounted: whatever the kernel can mount can be
// entered, and everything that is written lands in the draft, sector by sector. The mounts are
// in a name space of their own that ends with the process, so that nothing is left behind after
// a kill; programs have no network and no processes but their own.
//
//	s, err := inside.Enter(ctx, draft, nil, system.Mount{Volume: 2}, []system.Mount{{Volume: 1, Path: "boot/efi"}})
//	if err != nil { … }
//	out, err := s.Run(ctx, system.Command{Args: []string{"update-initramfs", "-u", "-k", "all"}})
//	err = errors.Join(err, s.Leave())
//
// A FAT volume takes part as a folder that is written back by our own code, since not every
// kernel can mount one.
package inside
