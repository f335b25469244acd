package debian

import (
	"bufio"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strconv"
	"strings"

	"github.com/klauspost/compress/zstd"
	"github.com/pierrec/lz4/v4"
	"github.com/ulikunitz/xz"

	"diorthos/core/boot"
	"diorthos/core/system"
	"diorthos/core/volumes"
	"diorthos/platform/grub"
)

// layerTools are the programs by which an early-boot image puts a layer of volumes together.
var layerTools = map[volumes.Kind]string{volumes.Logical: "lvm", volumes.Opened: "cryptsetup", volumes.Array: "mdadm"}

// layersOf are the programs without which a volume is not there when the kernel asks for it.
func layersOf(g system.Ground, number int) (tools []string) {
	v := g.Volumes.Numbered(number)
	if v == nil || v.Kind == volumes.Partition {
		return nil
	}
	for _, n := range v.Within {
		tools = append(tools, layersOf(g, n)...)
	}
	return append(tools, layerTools[v.Kind])
}

// layersLink looks into the early-boot images for what the layers need on which the root volume lies. ok is
// false where nothing is needed, or what they hold cannot be told.
func layersLink(g system.Ground, s *grub.Start, number int) (l boot.Link, ok bool) {
	tools := layersOf(g, number)
	if len(tools) == 0 || len(s.Early) == 0 {
		return l, false
	}
	held := map[string]bool{}
	for _, f := range s.Early {
		if err := namesIn(f, func(name string) { held[path.Base(name)] = true }); err != nil {
			return l, false
		}
	}
	l = boot.Link{Kind: boot.LinkEarly, What: s.Early[len(s.Early)-1].Path, Saw: "it holds " + strings.Join(tools, ", ")}
	for _, tool := range tools {
		if !held[tool] {
			l.Fault = boot.EarlyImageMissing
			name := g.Volumes.Numbered(number).Name
			l.Saw = fmt.Sprintf("it holds no %s, without which %s is not there for the kernel", tool, name)
			break
		}
	}
	return l, true
}

// Bounds of what is unpacked of an early-boot image.
const (
	mostUnpacked = 1 << 30
	mostEntries  = 200_000
)

// namesIn tells the names in an early-boot image, of all its archives.
func namesIn(f grub.File, tell func(string)) error {
	file, err := f.Volume.Files.Open(f.Path)
	if err != nil {
		return err
	}
	defer func() { _ = file.Close() }() // it was only read
	info, err := file.Stat()
	if err != nil {
		return err
	}
	at, ok := file.(io.ReaderAt)
	if !ok {
		return errors.ErrUnsupported
	}
	packed, from, err := packingOf(at, info.Size())
	if err != nil {
		return err
	}
	if err := archived(io.NewSectionReader(at, 0, from), tell); err != nil {
		return err
	}
	if from >= info.Size() {
		return nil
	}
	rest := bufio.NewReaderSize(io.NewSectionReader(at, from, info.Size()-from), 1<<16)
	var plain io.Reader
	switch packed {
	case "zstd":
		z, err := zstd.NewReader(rest, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(128<<20))
		if err != nil {
			return err
		}
		defer z.Close()
		plain = z
	case "gzip":
		if plain, err = gzip.NewReader(rest); err != nil {
			return err
		}
	case "xz":
		if plain, err = xz.NewReader(rest); err != nil {
			return err
		}
	case "lz4":
		plain = lz4.NewReader(rest)
	default:
		return errors.ErrUnsupported
	}
	return archived(io.LimitReader(plain, mostUnpacked), tell)
}

// archived tells the names in archives of the new ASCII form, one behind the other.
func archived(r io.Reader, tell func(string)) error {
	in := bufio.NewReaderSize(r, 1<<16)
	head := make([]byte, 110)
	for range mostEntries {
		for { // what archives are filled up with
			b, err := in.Peek(1)
			if errors.Is(err, io.EOF) {
				return nil
			}
			if err != nil {
				return err
			}
			if b[0] != 0 {
				break
			}
			if _, err := in.Discard(1); err != nil {
				return err
			}
		}
		if _, err := io.ReadFull(in, head); err != nil {
			return err
		}
		size, err1 := strconv.ParseInt(string(head[54:62]), 16, 64)
		length, err2 := strconv.ParseInt(string(head[94:102]), 16, 64)
		if string(head[:5]) != "07070" || err1 != nil || err2 != nil || length <= 0 || length > 4096 {
			return fmt.Errorf("its archive is damaged: %w", fs.ErrInvalid)
		}
		name := make([]byte, align4(110+length)-110)
		if _, err := io.ReadFull(in, name); err != nil {
			return err
		}
		tell(strings.TrimRight(string(name), "\x00"))
		if _, err := io.CopyN(io.Discard, in, align4(size)); err != nil {
			return err
		}
	}
	return errors.New("its archive has more entries than an early-boot image can have")
}
