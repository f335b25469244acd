package bags_test

import (
	"bytes"
	"io"
	"math/rand/v2"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"diorthos/core/bag"
	"diorthos/service/bags"
	"diorthos/standin/objects"
)

// farStore is a store of objects that is not far, and its address.
func farStore(t *testing.T) (far *objects.Store, where string) {
	t.Helper()
	t.Setenv("AWS_ACCESS_KEY_ID", "harbour")
	t.Setenv("AWS_SECRET_ACCESS_KEY", "made-up")
	t.Setenv("AWS_EC2_METADATA_DISABLED", "true")
	far = &objects.Store{Bucket: "bags"}
	server := httptest.NewServer(far)
	t.Cleanup(server.Close)
	return far, "s3://bags?region=harbour&use_path_style=true&endpoint=" + server.URL
}

// A store that speaks the S3 protocol keeps bags as a folder does: in one piece or, large ones, in parts; of what
// was cut off or refused nothing is kept; sweeping drops what nothing was recorded of.
func TestBagsAreKeptInAStoreOfObjects(t *testing.T) {
	far, where := farStore(t)
	s, err := bags.Open(t.Context(), where)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = s.Close() }()
	noise := make([]byte, 14<<20)
	r := rand.New(rand.NewPCG(1, 2))
	for i := range noise {
		noise[i] = byte(r.Uint32())
	}
	var keys []string
	for name, raw := range map[string][]byte{"small": packed(t), "large": packedWith(t, noise)} {
		key, info, size, err := s.Take(t.Context(), bytes.NewReader(raw), bag.DefaultLimits)
		if err != nil || size != int64(len(raw)) || info.Facts.Machine.Name != "tern-1" {
			t.Fatalf("%s: %v", name, err)
		}
		in, length, err := s.Open(t.Context(), key)
		if err != nil {
			t.Fatal(err)
		}
		back, err := io.ReadAll(in)
		if _ = in.Close(); err != nil || !bytes.Equal(back, raw) || length != size || !s.Holds(t.Context(), key, size) {
			t.Errorf("%s: %d of %d bytes come back: %v", name, len(back), len(raw), err)
		}
		keys = append(keys, key)
		if _, _, _, err := s.Take(t.Context(), bytes.NewReader(raw[:len(raw)-20]), bag.DefaultLimits); err == nil {
			t.Errorf("%s, cut off, is taken", name)
		}
	}
	far.Refuse = map[string]bool{"PUT": true}
	if _, _, _, err := s.Take(t.Context(), bytes.NewReader(packed(t)), bag.DefaultLimits); err == nil {
		t.Error("a bag that the store refuses is taken")
	}
	far.Refuse = nil
	if far.Len() != 2 {
		t.Errorf("%d objects are kept, want the 2 that were acknowledged", far.Len())
	}
	if err := s.Reachable(t.Context()); err != nil {
		t.Errorf("the store does not answer: %v", err)
	}
	other, err := bags.Open(t.Context(), strings.Replace(where, "//bags?", "//other?", 1))
	if err != nil {
		t.Fatal(err)
	}
	if other.Reachable(t.Context()) == nil {
		t.Error("a bucket that is not there answers")
	}
	_ = other.Close()
	if s.Holds(t.Context(), "incoming-gone", 1) {
		t.Error("one that is not there is held")
	}
	dropped, err := s.Sweep(t.Context(), -time.Minute, 10, func(key string) (bool, error) { return key == keys[0], nil })
	if err != nil || dropped != 1 || far.Len() != 1 {
		t.Errorf("%d dropped, %d left: %v", dropped, far.Len(), err)
	}
}
