package debian

import (
	"bytes"
	"testing"
	"testing/fstest"

	"diorthos/platform/grub"
	standin "diorthos/standin/debian"
)

func FuzzEarlyImage(f *testing.F) {
	f.Add(standin.EarlyImage([]byte("content")))
	f.Add(append(standin.EarlyImage(nil), 0x28, 0xb5, 0x2f, 0xfd, 0x20, 0x10, 0x81, 0, 0, 1, 2))
	f.Add(bytes.Repeat([]byte{0}, 100))
	f.Fuzz(func(_ *testing.T, raw []byte) {
		files := fstest.MapFS{"early": {Data: raw}, "kernel": {Data: raw}, "init": {Data: raw, Mode: 0o755}}
		v := &grub.Volume{Files: files}
		earlyLink(grub.File{Volume: v, Path: "early"})
		kernelLink(grub.File{Volume: v, Path: "kernel"})
		neededBy(files, "init")
		mountsIn(string(raw))
	})
}
