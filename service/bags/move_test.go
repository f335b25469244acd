package bags_test

import (
	"bytes"
	"context"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"diorthos/core/bag"
	"diorthos/service/bags"
)

// Bags go from a folder to a store of objects and back while others read, hand in and remove them: each is found at
// every moment, whatever cuts the move off. What is not the same there is left in both.
func TestBagsAreMovedWhileTheyAreRead(t *testing.T) {
	far, bucket := farStore(t)
	folder := filepath.Join(t.TempDir(), "bags")
	want := map[string][]byte{}
	first, err := bags.Open(t.Context(), folder)
	if err != nil {
		t.Fatal(err)
	}
	for i := range 40 {
		raw := packedWith(t, bytes.Repeat([]byte{byte('a' + i%26), '\n'}, 100*(i+1)))
		key, _, _, err := first.Take(t.Context(), bytes.NewReader(raw), bag.DefaultLimits)
		if err != nil {
			t.Fatal(err)
		}
		want[key] = raw
	}
	if err := first.Close(); err != nil {
		t.Fatal(err)
	}
	for _, way := range [][2]string{{folder, bucket}, {bucket, folder}} {
		s, err := bags.OpenBeside(t.Context(), way[1], way[0], nil)
		if err != nil {
			t.Fatal(err)
		}
		over := make(chan struct{})
		var wait sync.WaitGroup
		for range 4 {
			wait.Go(func() {
				for rounds := 0; ; rounds++ {
					for key, raw := range want {
						in, _, err := s.Open(t.Context(), key)
						if err != nil {
							t.Errorf("not found while it is moved: %v", err)
							return
						}
						back, err := io.ReadAll(in)
						if _ = in.Close(); err != nil || !bytes.Equal(back, raw) || !s.Holds(t.Context(), key, int64(len(raw))) {
							t.Errorf("%d of %d bytes come back: %v", len(back), len(raw), err)
							return
						}
					}
					select {
					case <-over:
						return
					default:
					}
				}
			})
		}
		cut, cancel := context.WithCancel(t.Context())
		m, err := s.Move(cut, 0, func(m bags.Moved) {
			if m.Bags == 10 {
				cancel()
			}
		})
		if cancel(); err == nil || m.Bags < 10 || m.Bags == len(want) {
			t.Errorf("%d moved, and then: %v", m.Bags, err)
		}
		more, err := s.Move(t.Context(), 0, func(bags.Moved) {})
		if err != nil || m.Bags+more.Bags < len(want) || more.Left > 0 {
			t.Errorf("after %d further %+v: %v", m.Bags, more, err)
		}
		close(over)
		wait.Wait()
		for key := range want { // what is removed while both are open is removed in both
			delete(want, key)
			if err := s.Drop(t.Context(), key); err != nil {
				t.Errorf("drop: %v", err)
			}
			if _, _, err := s.Open(t.Context(), key); err == nil {
				t.Error("a bag that was removed is still read")
			}
			break
		}
		if err := s.Close(); err != nil {
			t.Fatal(err)
		}
		left, _ := filepath.Glob(filepath.Join(folder, "*"))
		if there := map[bool]int{true: far.Len(), false: len(left)}[way[0] == bucket]; there != 0 {
			t.Errorf("%d bags are left where they came from", there)
		}
	}

	s, err := bags.OpenBeside(t.Context(), bucket, folder, nil)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = s.Close() }()
	if _, err := bags.OpenBeside(t.Context(), bucket, folder+"-of-no-name", nil); err == nil {
		t.Error("a folder that is not there is taken for an empty one")
	}
	var odd string
	for odd = range want {
		break
	}
	if _, err := s.Put(t.Context(), odd, strings.NewReader("something else")); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Move(t.Context(), 0, func(bags.Moved) {}); err == nil ||
		!strings.Contains(err.Error(), "left in both") {
		t.Errorf("what is not the same is taken for moved: %v", err)
	}
	if raw, err := os.ReadFile(filepath.Join(folder, odd)); err != nil || !bytes.Equal(raw, want[odd]) {
		t.Errorf("the only whole copy is gone: %v", err)
	}
}
