package media_test

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"strings"
	"testing"

	"diorthos/core/media"
)

// scratched is a disc of which one place cannot be read for so many times.
type scratched struct {
	*bytes.Reader
	at    int64
	fails int
}

var errDrive = errors.New("the drive reports an error")

func (s *scratched) ReadAt(b []byte, off int64) (int, error) {
	if s.at >= off && s.at < off+int64(len(b)) && s.fails > 0 {
		s.fails--
		return int(s.at - off), errDrive
	}
	return s.Reader.ReadAt(b, off)
}

// A place that is read at the third time is in the image as it is; one that never is ends the copy, and is named.
func TestAScratchedDiscIsNoImage(t *testing.T) {
	disc := bytes.Repeat([]byte("skerrow ferries "), 50_000)
	for fails, want := range map[int]bool{0: true, 2: true, 3: false} {
		var out bytes.Buffer
		src := &scratched{bytes.NewReader(disc), 400_000, fails}
		sum, err := media.CopyDisc(t.Context(), src, int64(len(disc)), &out, nil)
		if want {
			whole := sha256.Sum256(disc)
			if err != nil || sum != hex.EncodeToString(whole[:]) || !bytes.Equal(out.Bytes(), disc) {
				t.Errorf("%d errors of the drive: %v, %d bytes", fails, err, out.Len())
			}
			continue
		}
		if !errors.Is(err, errDrive) || !strings.Contains(err.Error(), "at byte 393216") {
			t.Errorf("%d errors of the drive: %v", fails, err)
		}
	}
	src := &scratched{bytes.NewReader(disc), -1, 0}
	if _, err := media.CopyDisc(t.Context(), src, int64(len(disc))+1, io.Discard, nil); err == nil {
		t.Error("a disc that ends early was copied")
	}
}
