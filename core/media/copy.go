package media

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"

	"diorthos/core/block"
	"diorthos/core/iso"
	"diorthos/core/layout"
)

const (
	discPiece = 64 << 10 // what a drive reads at once
	discTries = 3        // how often a place is read that cannot be
)

// DiscSize is how much of a disc belongs to its image: what it says itself, and what its tables lead to behind that. A
// drive shows more, which is not to be read.
func DiscSize(src block.Source) (int64, error) {
	disc, err := iso.Open(src)
	if err != nil {
		return 0, fmt.Errorf("%w: %w", ErrNotAMedium, err)
	}
	size := disc.Size
	if table, err := layout.Read(src); err == nil {
		for _, p := range table.Partitions() {
			size = max(size, p.Off+p.Length)
		}
		if table.Primary.Sound() { // its copy ends the image
			size = max(size, int64(table.Primary.Header.Alternate+1)*int64(table.SectorSize))
		}
	}
	if size > src.Size() {
		return 0, fmt.Errorf("it says that it has %d bytes, and %d are there: it is cut off", size, src.Size())
	}
	return size, nil
}

// CopyDisc copies so much of a disc and returns the SHA-256 of it. Where nothing can be read it is tried again; a place
// that stays so ends it, for an image with a hole is none.
func CopyDisc(ctx context.Context, src io.ReaderAt, size int64, out io.Writer, progress Progress) (string, error) {
	sum, buf := sha256.New(), make([]byte, discPiece)
	for off := int64(0); off < size; {
		b := buf[:min(discPiece, size-off)]
		if err := readTrying(ctx, src, b, off); err != nil {
			return "", fmt.Errorf(
				"it cannot be read at byte %d, behind %d %%: %w; clean the disc, or take another drive or disc",
				off, off*100/size, err,
			)
		}
		if _, err := out.Write(b); err != nil {
			return "", err
		}
		_, _ = sum.Write(b)
		if off += int64(len(b)); progress != nil {
			progress("reading", off, size)
		}
	}
	return hex.EncodeToString(sum.Sum(nil)), nil
}

func readTrying(ctx context.Context, src io.ReaderAt, b []byte, off int64) (err error) {
	for range discTries {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		n := 0
		if n, err = src.ReadAt(b, off); n == len(b) && (err == nil || errors.Is(err, io.EOF)) {
			return nil
		}
		if err == nil || errors.Is(err, io.EOF) {
			return io.ErrUnexpectedEOF
		}
	}
	return err
}
