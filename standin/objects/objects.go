// Package objects is a small store of objects that speaks as much of the S3 protocol as Diorthos uses of it:
// to put, get, look at, list and delete objects, in one piece or in parts. It stands in for such a store in
// tests, and keeps everything in memory.
//
//	server := httptest.NewServer(&objects.Store{Bucket: "bags"})
//	… bags.Open(ctx, "s3://bags?endpoint="+server.URL+"&use_path_style=true&region=harbour")
package objects

import (
	"cmp"
	"encoding/xml"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"
)

// Store is one bucket.
type Store struct {
	Bucket string

	mu      sync.Mutex
	objects map[string]object
	parts   map[string]map[string][]byte // of uploads in parts, by the number of the part
	next    int
	// Refuse makes requests fail, by method; for tests.
	Refuse map[string]bool
}

type object struct {
	data []byte
	at   time.Time
}

// Len is how many objects there are.
func (s *Store) Len() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.objects)
}

type listed struct {
	XMLName     xml.Name `xml:"ListBucketResult"`
	Name        string
	IsTruncated bool
	Contents    []content
}

type content struct {
	Key          string
	Size         int
	LastModified string
	ETag         string
}

// ServeHTTP answers one request, in the path style.
func (s *Store) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.objects == nil {
		s.objects, s.parts = map[string]object{}, map[string]map[string][]byte{}
	}
	bucket, key, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/"), "/")
	q := r.URL.Query()
	switch {
	case bucket != s.Bucket:
		refuse(w, http.StatusNotFound, "NoSuchBucket")
	case s.Refuse[r.Method]:
		refuse(w, http.StatusServiceUnavailable, "SlowDown")
	case key == "" && r.Method == http.MethodGet:
		s.list(w, q.Get("prefix"))
	case r.Method == http.MethodPost && q.Has("uploads"):
		s.next++
		id := fmt.Sprint(s.next)
		s.parts[id] = map[string][]byte{}
		answer(w, struct {
			XMLName     xml.Name `xml:"InitiateMultipartUploadResult"`
			Bucket, Key string
			UploadID    string `xml:"UploadId"`
		}{Bucket: bucket, Key: key, UploadID: id})
	case r.Method == http.MethodPut:
		s.put(w, r, key, q.Get("uploadId"), q.Get("partNumber"))
	case r.Method == http.MethodPost && q.Has("uploadId"):
		s.join(w, key, q.Get("uploadId"))
	case r.Method == http.MethodDelete:
		delete(s.objects, key)
		delete(s.parts, q.Get("uploadId"))
		w.WriteHeader(http.StatusNoContent)
	default:
		s.get(w, r, key)
	}
}

func (s *Store) put(w http.ResponseWriter, r *http.Request, key, upload, part string) {
	data, err := body(r)
	if err != nil {
		refuse(w, http.StatusBadRequest, "IncompleteBody")
		return
	}
	w.Header().Set("ETag", tag(data))
	if upload == "" {
		s.objects[key] = object{data, time.Now()}
		return
	}
	if s.parts[upload] == nil {
		refuse(w, http.StatusNotFound, "NoSuchUpload")
		return
	}
	s.parts[upload][fmt.Sprintf("%06s", part)] = data
}

// body reads what is sent, also in chunks that are signed one by one.
func body(r *http.Request) ([]byte, error) {
	raw, err := io.ReadAll(r.Body)
	if err != nil || !strings.Contains(r.Header.Get("Content-Encoding"), "aws-chunked") {
		return raw, err
	}
	var data []byte
	for len(raw) > 0 {
		head, rest, ok := strings.Cut(string(raw), "\r\n")
		var n int
		if _, err := fmt.Sscanf(head, "%x", &n); err != nil || !ok || n > len(rest) {
			return nil, io.ErrUnexpectedEOF
		}
		if n == 0 {
			return data, nil
		}
		data, raw = append(data, rest[:n]...), []byte(strings.TrimPrefix(rest[n:], "\r\n"))
	}
	return nil, io.ErrUnexpectedEOF
}

func (s *Store) join(w http.ResponseWriter, key, upload string) {
	parts, ok := s.parts[upload]
	if !ok {
		refuse(w, http.StatusNotFound, "NoSuchUpload")
		return
	}
	var numbers []string
	for n := range parts {
		numbers = append(numbers, n)
	}
	slices.Sort(numbers)
	var data []byte
	for _, n := range numbers {
		data = append(data, parts[n]...)
	}
	delete(s.parts, upload)
	s.objects[key] = object{data, time.Now()}
	answer(w, struct {
		XMLName   xml.Name `xml:"CompleteMultipartUploadResult"`
		Key, ETag string
	}{Key: key, ETag: tag(data)})
}

func (s *Store) get(w http.ResponseWriter, r *http.Request, key string) {
	o, ok := s.objects[key]
	if !ok {
		refuse(w, http.StatusNotFound, "NoSuchKey")
		return
	}
	w.Header().Set("ETag", tag(o.data))
	http.ServeContent(w, r, "", o.at, strings.NewReader(string(o.data)))
}

func (s *Store) list(w http.ResponseWriter, prefix string) {
	l := listed{Name: s.Bucket}
	for key, o := range s.objects {
		if strings.HasPrefix(key, prefix) {
			l.Contents = append(l.Contents, content{
				Key: key, Size: len(o.data), LastModified: o.at.UTC().Format(time.RFC3339), ETag: tag(o.data),
			})
		}
	}
	slices.SortFunc(l.Contents, func(a, b content) int { return cmp.Compare(a.Key, b.Key) })
	answer(w, l)
}

func tag(data []byte) string { return fmt.Sprintf("\"%d\"", len(data)) }

func answer(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/xml")
	_ = xml.NewEncoder(w).Encode(v) // whoever asked has gone
}

func refuse(w http.ResponseWriter, status int, code string) {
	w.Header().Set("Content-Type", "application/xml")
	w.WriteHeader(status)
	_ = xml.NewEncoder(w).Encode(struct {
		XMLName xml.Name `xml:"Error"`
		Code    string
	}{Code: code})
}
