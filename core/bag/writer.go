package bag

import (
	"archive/tar"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path"
	"sort"
	"strings"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
)

// Options say how a bag is packed.
type Options struct {
	Name    string    // of the folder inside the archive; the machine's name does well
	Created time.Time // the time given to all files
	Zstd    bool      // .tar.zst instead of .tar.gz
}

// A Writer packs a bag into a stream. Call Close to complete it; a bag
// without its end is not one.
type Writer struct {
	tar      *tar.Writer
	squeeze  io.WriteCloser
	opts     Options
	manifest map[string]string // payload name to checksum
	bytes    int64
}

// NewWriter begins a bag on out.
func NewWriter(out io.Writer, opts Options) (*Writer, error) {
	opts.Name = folderName(opts.Name)
	w := &Writer{opts: opts, manifest: map[string]string{}}
	if opts.Zstd {
		z, err := zstd.NewWriter(out)
		if err != nil {
			return nil, err
		}
		w.squeeze = z
	} else {
		w.squeeze = gzip.NewWriter(out)
	}
	w.tar = tar.NewWriter(w.squeeze)
	return w, w.put(declarationName, []byte(declaration))
}

// folderName keeps what is safe everywhere in a file name.
func folderName(s string) string {
	s = strings.Map(func(r rune) rune {
		if r == '-' || r == '_' || r == '.' || r >= '0' && r <= '9' || r >= 'A' && r <= 'Z' || r >= 'a' && r <= 'z' {
			return r
		}
		return '-'
	}, s)
	if s = strings.Trim(s, ".-"); s == "" {
		return "bag"
	}
	return s
}

// AddFacts adds the document of facts. It is refused if it breaks the schema.
// Add it first: readers then know the machine before its files.
func (w *Writer) AddFacts(facts *Facts) error {
	raw, err := json.MarshalIndent(facts, "", "  ")
	if err != nil {
		return err
	}
	if _, err := ParseFacts(raw); err != nil {
		return err
	}
	return w.AddFile(factsName, int64(len(raw)), strings.NewReader(string(raw)))
}

// AddFile adds size bytes of r under name. A file that turns out shorter, as
// one may that is being written to, is an error.
func (w *Writer) AddFile(name string, size int64, r io.Reader) error {
	if err := checkName(payloadFolder+name, DefaultLimits); err != nil {
		return err
	}
	if _, ok := w.manifest[name]; ok {
		return fmt.Errorf("bag: %s is in it already", name)
	}
	if err := w.header(payloadFolder+name, size); err != nil {
		return err
	}
	sum := sha256.New()
	n, err := io.Copy(io.MultiWriter(w.tar, sum), io.LimitReader(r, size))
	if err != nil {
		return fmt.Errorf("bag: %s: %w", name, err)
	}
	if n != size {
		return fmt.Errorf("bag: %s: became shorter while it was read: %d of %d bytes", name, n, size)
	}
	w.manifest[name] = hex.EncodeToString(sum.Sum(nil))
	w.bytes += n
	return nil
}

// Close writes the manifests and ends the stream. It returns the bag's digest.
func (w *Writer) Close() (digest string, err error) {
	if _, ok := w.manifest[factsName]; !ok {
		return "", errors.New("bag: it has no facts")
	}
	manifest := w.manifestText()
	info := fmt.Sprintf(
		"Bagging-Date: %s\nPayload-Oxum: %d.%d\n", w.opts.Created.UTC().Format(time.DateOnly), w.bytes, len(w.manifest),
	)
	tags := fmt.Sprintf(
		"%s  %s\n%s  %s\n%s  %s\n", hexSum([]byte(info)), infoName, hexSum([]byte(declaration)), declarationName,
		hexSum(manifest), manifestName,
	)
	for _, part := range []struct {
		name string
		text []byte
	}{{infoName, []byte(info)}, {manifestName, manifest}, {tagManifestName, []byte(tags)}} {
		if err := w.put(part.name, part.text); err != nil {
			return "", err
		}
	}
	if err := w.tar.Close(); err != nil {
		return "", err
	}
	return hexSum(manifest), w.squeeze.Close()
}

func (w *Writer) manifestText() []byte {
	var lines []string
	for name, sum := range w.manifest {
		lines = append(lines, sum+"  "+escapeName(payloadFolder+name)+"\n")
	}
	sort.Strings(lines)
	return []byte(strings.Join(lines, ""))
}

func (w *Writer) put(name string, text []byte) error {
	if err := w.header(name, int64(len(text))); err != nil {
		return err
	}
	_, err := w.tar.Write(text)
	return err
}

func (w *Writer) header(name string, size int64) error {
	return w.tar.WriteHeader(&tar.Header{
		Typeflag: tar.TypeReg,
		Name:     path.Join(w.opts.Name, name),
		Size:     size,
		Mode:     0o644,
		ModTime:  w.opts.Created.Truncate(time.Second),
		Format:   tar.FormatPAX,
	})
}

func hexSum(b []byte) string {
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}

// escapeName encodes what RFC 8493, section 2.1.3, wants encoded.
func escapeName(s string) string {
	return strings.NewReplacer("%", "%25", "\n", "%0A", "\r", "%0D").Replace(s)
}

func unescapeName(s string) string {
	return strings.NewReplacer("%0A", "\n", "%0a", "\n", "%0D", "\r", "%0d", "\r", "%25", "%").Replace(s)
}
