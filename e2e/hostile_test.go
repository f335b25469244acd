package e2e

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"
)

// packedTar is a small archive of whatever it is told.
func packedTar(t *testing.T, names []string, body func(i int) string) []byte {
	t.Helper()
	var out bytes.Buffer
	z := gzip.NewWriter(&out)
	w := tar.NewWriter(z)
	for i, name := range names {
		text := body(i)
		h := &tar.Header{Name: name, Typeflag: tar.TypeReg, Mode: 0o644, Size: int64(len(text))}
		if strings.HasSuffix(name, "/") {
			h.Typeflag = tar.TypeDir
		}
		if err := w.WriteHeader(h); err != nil {
			t.Fatal(err)
		}
		if _, err := w.Write([]byte(text)); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

// Twenty at once of bags that are small and unpack to much do not take the service's
// memory, and others are answered meanwhile.
func TestTwentyHostileBagsAtOnceStayWithinBounds(t *testing.T) {
	s := prepare(t)
	cmd := s.serveProcess()
	many := func(n int, pattern string) (list []string) {
		for i := range n {
			list = append(list, fmt.Sprintf(pattern, i))
		}
		return list
	}
	facts := "[" + strings.Repeat("[],", 2<<20) + "[]]"
	deep := strings.Repeat(`{"a":`, 1<<20) + "1" + strings.Repeat("}", 1<<20)
	whole := func(facts string) []byte {
		files := []string{
			"BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n",
			fmt.Sprintf("%x  data/facts.json\n", sha256.Sum256([]byte(facts))), facts,
		}
		names := []string{"b/bagit.txt", "b/manifest-sha256.txt", "b/data/facts.json"}
		return packedTar(t, names, func(i int) string { return files[i] })
	}
	hostile := [][]byte{
		packedTar(t, many(63, "b/tag%d.txt"), func(int) string { return strings.Repeat("x", 7<<20) }),
		packedTar(t, many(300_000, "b/data/%d/"), func(int) string { return "" }),
		whole(facts), whole(deep),
	}
	var group sync.WaitGroup
	answers := make(chan int, 20)
	ended := make(chan struct{})
	for i := range 20 {
		group.Go(func() {
			req, err := http.NewRequest(http.MethodPost, s.url+"/api/v1/bags", bytes.NewReader(hostile[i%len(hostile)]))
			if err != nil {
				t.Error(err)
				return
			}
			req.Header.Set("Authorization", "Bearer "+s.token)
			resp, err := http.DefaultClient.Do(req)
			if err != nil {
				t.Error(err)
				return
			}
			_ = resp.Body.Close()
			answers <- resp.StatusCode
		})
	}
	go func() {
		group.Wait()
		close(ended)
	}()
	slowest := time.Duration(0)
	for waiting := true; waiting; {
		began := time.Now()
		s.must(0, "cases")
		slowest = max(slowest, time.Since(began))
		select {
		case <-ended:
			waiting = false
		default:
		}
	}
	close(answers)
	for status := range answers {
		if status != http.StatusRequestEntityTooLarge && status != http.StatusServiceUnavailable {
			t.Errorf("a hostile bag was answered with %d", status)
		}
	}
	took := peakMemory(t, cmd) >> 20
	t.Logf("at most %d MiB; the slowest list of the others took %s, its process included", took, slowest)
	if took > 300 {
		t.Errorf("the service took %d MiB", took)
	}
}
