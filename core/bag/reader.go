package bag

import (
	"archive/tar"
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"sort"
	"strings"
	"unicode"
	"unicode/utf8"

	"diorthos/core/plain"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
)

const again = "gather it again, or copy it again from where it was made"

// Read reads a packed bag to its end and verifies all of it, in one pass and
// with memory for its lists only. visit may be nil.
func Read(ctx context.Context, in io.Reader, limits Limits, visit Visitor) (*Info, error) {
	r := &reader{
		limits:  limits,
		sums:    map[string]File{},
		folders: map[string]bool{},
		tags:    map[string][]byte{},
		visit:   visit,
	}
	packed := &counter{r: in, ctx: ctx}
	plain, err := decompress(packed)
	if err != nil {
		return nil, err
	}
	defer func() { _ = plain.Close() }()
	unpacked := &counter{r: plain, ctx: ctx, check: func(n int64) error {
		if n > limits.RatioFrom && n > limits.Ratio*packed.n {
			return &Error{
				Kind: ErrTooLarge,
				Text: fmt.Sprintf("it unpacks to more than %d times its size", limits.Ratio),
				Do:   "this looks like an archive made to exhaust the reader; nothing of it was kept",
			}
		}
		return nil
	}}
	err = r.entries(tar.NewReader(unpacked))
	if err == nil {
		_, err = io.Copy(io.Discard, unpacked) // the compression's own checksum
	}
	switch {
	case err == nil:
		return r.verify()
	case r.kept != nil || packed.failed != nil: // not the bag's fault
		return nil, explain(err, packed.n)
	}
	return nil, faulty(explain(err, packed.n), packed.n)
}

// faulty says of any error that came from what was read, and from nothing else, that it
// is no archive: the decompressors have more ways to say so than can be listed.
func faulty(err error, at int64) error {
	var own *Error
	if errors.As(err, &own) || errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded) {
		return err
	}
	return &Error{Kind: ErrNotABag, Text: fmt.Sprintf("byte %d or near it is not an archive: %v", at, err), Do: again}
}

// Unpack is Read that also lays the files out in dir, under their names in
// the payload. On an error, what was laid out is not to be trusted.
func Unpack(ctx context.Context, in io.Reader, limits Limits, dir string) (*Info, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	defer func() { _ = root.Close() }()
	return Read(ctx, in, limits, func(name string, _ int64, r io.Reader) error {
		if err := root.MkdirAll(path.Dir(name), 0o700); err != nil {
			return err
		}
		f, err := root.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
		if err != nil {
			return err
		}
		_, err = io.Copy(f, r)
		return errors.Join(err, f.Close())
	})
}

// decompress recognises the compression by its first bytes.
func decompress(in io.Reader) (io.ReadCloser, error) {
	b := bufio.NewReaderSize(in, 64<<10)
	head, err := b.Peek(4)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	switch {
	case len(head) == 0:
		return nil, &Error{Kind: ErrNotABag, Text: "it is empty", Do: "make one with \"diorthos gather\""}
	case bytes.HasPrefix(head, []byte{0x1f, 0x8b}):
		z, err := gzip.NewReader(b)
		if err != nil {
			return nil, explain(err, 0)
		}
		z.Multistream(true)
		return z, nil
	case bytes.HasPrefix(head, []byte{0x28, 0xb5, 0x2f, 0xfd}):
		z, err := zstd.NewReader(b, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(8<<20))
		if err != nil {
			return nil, err
		}
		return z.IOReadCloser(), nil
	}
	return nil, &Error{
		Kind: ErrNotABag,
		Text: fmt.Sprintf("it begins with %q, want a .tar.gz or .tar.zst", head),
		Do:   "make one with \"diorthos gather\"",
	}
}

// explain turns what the standard readers say into what a technician needs.
func explain(err error, at int64) error {
	var own *Error
	switch {
	case errors.As(err, &own) || errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded):
		return err
	case errors.Is(err, io.ErrUnexpectedEOF):
		return &Error{Kind: ErrTruncated, Text: fmt.Sprintf("it ends in the middle, after %d bytes", at), Do: again}
	case errors.Is(err, gzip.ErrChecksum), errors.Is(err, zstd.ErrCRCMismatch):
		return &Error{Kind: ErrChecksum, Text: "the compressed stream was altered", Do: again}
	case errors.Is(err, zstd.ErrWindowSizeExceeded), errors.Is(err, zstd.ErrDecoderSizeExceeded):
		return &Error{
			Kind: ErrTooLarge,
			Text: "its compression asks for more memory than 8 MiB",
			Do:   "pack it with an ordinary window",
		}
	case errors.Is(err, gzip.ErrHeader), errors.Is(err, tar.ErrHeader), errors.Is(err, zstd.ErrMagicMismatch),
		isCorrupt(err):
		return &Error{Kind: ErrNotABag, Text: fmt.Sprintf("byte %d or near it is not an archive: %v", at, err), Do: again}
	}
	return err
}

// isCorrupt knows the errors of the decompressors that have no value to
// compare with.
func isCorrupt(err error) bool {
	text := err.Error()
	return strings.HasPrefix(text, "flate:") || strings.Contains(text, "corrupt") ||
		strings.HasPrefix(text, "archive/tar:")
}

// counter counts what passes and stops when the caller has gone.
type counter struct {
	r     io.Reader
	ctx   context.Context
	n     int64
	check func(int64) error
	// failed is why it could not be read on, unless it ended
	failed error
}

func (c *counter) Read(p []byte) (int, error) {
	if err := c.ctx.Err(); err != nil {
		return 0, err
	}
	n, err := c.r.Read(p)
	c.n += int64(n)
	if err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, io.ErrUnexpectedEOF) {
		c.failed = err
	}
	if c.check != nil {
		if bad := c.check(c.n); bad != nil {
			return n, bad
		}
	}
	return n, err
}

type reader struct {
	limits Limits
	visit  Visitor
	folder string // the one folder at the top
	sums   map[string]File
	// folders that the payload's names lie in
	folders map[string]bool
	tags    map[string][]byte
	facts   []byte
	total   int64
	tagged  int64 // bytes of the tag files
	seen    int   // entries of the archive
	kept    error // why a file could not be kept
}

func (r *reader) entries(t *tar.Reader) error {
	for {
		h, err := t.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		if r.seen++; r.seen > r.limits.Entries {
			return &Error{
				Kind: ErrTooLarge,
				Name: h.Name,
				Text: fmt.Sprintf("more than %d files and folders", r.limits.Entries),
				Do:   "leave out what the case does not need",
			}
		}
		if err := r.entry(h, t); err != nil {
			return err
		}
	}
}

func (r *reader) entry(h *tar.Header, body io.Reader) error {
	if err := checkName(strings.TrimSuffix(h.Name, "/"), r.limits); err != nil {
		return err
	}
	top, name, inside := strings.Cut(strings.TrimSuffix(h.Name, "/"), "/")
	if r.folder == "" {
		r.folder = top
	}
	if top != r.folder {
		return &Error{
			Kind: ErrNotABag,
			Name: h.Name,
			Text: fmt.Sprintf("a second folder beside %q", r.folder),
			Do:   "a bag has one folder at its top (RFC 8493, section 4)",
		}
	}
	switch {
	case h.Typeflag == tar.TypeDir:
		return nil
	case h.Typeflag != tar.TypeReg:
		return &Error{Kind: ErrUnsafe, Name: h.Name, Text: "is a link or a special file", Do: "a bag holds plain files only"}
	case h.PAXRecords["GNU.sparse.major"] != "" || h.PAXRecords["GNU.sparse.size"] != "":
		return &Error{Kind: ErrUnsafe, Name: h.Name, Text: "is stored with holes", Do: "pack it without sparse files"}
	case !inside:
		return &Error{
			Kind: ErrNotABag,
			Name: h.Name,
			Text: "stands beside the bag's folder",
			Do:   "a bag has one folder at its top (RFC 8493, section 4)",
		}
	}
	payload, ok := strings.CutPrefix(name, payloadFolder)
	if !ok {
		return r.tagFile(name, h.Size, body)
	}
	return r.payloadFile(payload, h.Size, body)
}

// tagFile keeps the bag's own small files.
func (r *reader) tagFile(name string, size int64, body io.Reader) error {
	if r.tagged += size; r.tagged > r.limits.Tags || len(r.tags) >= 64 {
		return &Error{
			Kind: ErrTooLarge,
			Name: name,
			Text: fmt.Sprintf("with it the bag's own lists have %d bytes, at most %d", r.tagged, r.limits.Tags),
			Do:   "a bag's own lists are small",
		}
	}
	if _, ok := r.tags[name]; ok {
		return &Error{Kind: ErrUnsafe, Name: name, Text: "is in it twice", Do: again}
	}
	text, err := io.ReadAll(body)
	r.tags[name] = text
	return err
}

func (r *reader) payloadFile(name string, size int64, body io.Reader) error {
	if _, ok := r.sums[name]; ok {
		return &Error{Kind: ErrUnsafe, Name: name, Text: "is in it twice", Do: again}
	}
	if err := r.place(name); err != nil {
		return err
	}
	r.total += size
	switch {
	case size > r.limits.File:
		return &Error{
			Kind: ErrTooLarge,
			Name: name,
			Text: fmt.Sprintf("%d bytes, at most %d", size, r.limits.File),
			Do:   "leave it out, or hand in its last part",
		}
	case r.total > r.limits.Total:
		return &Error{
			Kind: ErrTooLarge,
			Name: name,
			Text: fmt.Sprintf("with it the bag unpacks to more than %d bytes", r.limits.Total),
			Do:   "leave out what the case does not need",
		}
	case len(r.sums) >= r.limits.Files:
		return &Error{
			Kind: ErrTooLarge,
			Name: name,
			Text: fmt.Sprintf("more than %d files", r.limits.Files),
			Do:   "leave out what the case does not need",
		}
	}
	sum := sha256.New()
	body = io.TeeReader(body, sum)
	if name == factsName {
		if size > r.limits.Facts {
			return &Error{
				Kind: ErrTooLarge,
				Name: name,
				Text: fmt.Sprintf("%d bytes, at most %d", size, r.limits.Facts),
				Do:   "facts are a summary: put the rest into files",
			}
		}
		raw, err := io.ReadAll(body)
		if err != nil {
			return err
		}
		r.facts = raw
	} else if r.visit != nil {
		if err := r.visit(name, size, body); err != nil {
			r.kept = err
			return err
		}
	}
	if _, err := io.Copy(io.Discard, body); err != nil {
		return err
	}
	r.sums[name] = File{Name: name, Size: size, SHA256: hex.EncodeToString(sum.Sum(nil))}
	return nil
}

// place sees to it that no name is a file and a folder at once.
func (r *reader) place(name string) error {
	clash := func(other string) error {
		return &Error{
			Kind: ErrUnsafe,
			Name: name,
			Text: fmt.Sprintf("cannot lie beside %q: one is a file, the other a folder of that name", other),
			Do:   again,
		}
	}
	if r.folders[name] {
		return clash(name + "/")
	}
	for dir := path.Dir(name); dir != "." && !r.folders[dir]; dir = path.Dir(dir) {
		if _, ok := r.sums[dir]; ok {
			return clash(dir)
		}
		r.folders[dir] = true
	}
	return nil
}

// verify compares what came with what the manifests promise.
func (r *reader) verify() (*Info, error) {
	if !bytes.HasPrefix(r.tags[declarationName], []byte("BagIt-Version: 1.0")) {
		return nil, &Error{
			Kind: ErrNotABag,
			Name: declarationName,
			Text: "is missing or of another version",
			Do:   "make the bag with \"diorthos gather\"",
		}
	}
	manifest, ok := r.tags[manifestName]
	if !ok {
		return nil, &Error{
			Kind: ErrNotABag,
			Name: manifestName,
			Text: "is missing",
			Do:   "make the bag with \"diorthos gather\"",
		}
	}
	promised, err := parseManifest(manifestName, manifest)
	if err != nil {
		return nil, err
	}
	for full, sum := range promised {
		got, ok := r.sums[strings.TrimPrefix(full, payloadFolder)]
		switch {
		case !ok:
			return nil, &Error{Kind: ErrChecksum, Name: full, Text: "is promised by the manifest and not there", Do: again}
		case got.SHA256 != sum:
			return nil, &Error{
				Kind: ErrChecksum,
				Name: full,
				Text: fmt.Sprintf("SHA-256 is %.12s…, the manifest says %.12s…", got.SHA256, sum),
				Do:   again,
			}
		}
	}
	if err := r.verifyTags(); err != nil {
		return nil, err
	}
	info := &Info{Digest: hexSum(manifest)}
	for name, f := range r.sums {
		if _, ok := promised[payloadFolder+name]; !ok {
			return nil, &Error{Kind: ErrChecksum, Name: name, Text: "is not in the manifest", Do: again}
		}
		if name != factsName {
			info.Files = append(info.Files, f)
		}
	}
	sort.Slice(info.Files, func(i, k int) bool { return info.Files[i].Name < info.Files[k].Name })
	if r.facts == nil {
		return nil, &Error{
			Kind: ErrFacts,
			Name: payloadFolder + factsName,
			Text: "is missing",
			Do:   "make the bag with \"diorthos gather\"",
		}
	}
	if at := plain.NULIn(r.facts); at >= 0 {
		return nil, &Error{
			Kind: ErrFacts,
			Name: payloadFolder + factsName,
			Text: fmt.Sprintf("byte %d: a text holds a NUL, U+0000", at),
			Do:   again,
		}
	}
	if err := simple(r.facts, r.limits.Values); err != nil {
		return nil, &Error{
			Kind: ErrTooLarge, Name: payloadFolder + factsName, Text: err.Error(),
			Do: "facts are a summary: put the rest into files",
		}
	}
	if p := r.limits.Parsing; p != nil {
		p <- struct{}{}
		defer func() { <-p }()
	}
	if info.Facts, err = ParseFacts(r.facts); err != nil {
		return nil, &Error{
			Kind: ErrFacts,
			Name: payloadFolder + factsName,
			Text: err.Error(),
			Do:   "see the facts' schema in docs/formats.md",
		}
	}
	return info, nil
}

// MaxNesting is how deep facts may be nested.
const MaxNesting = 64

// simple reports whether JSON can be held in memory at little cost, by its commas and
// brackets: a few bytes of it can stand for a value of a hundred.
func simple(json []byte, values int) error {
	depth, count, text := 0, 0, false
	for i := 0; i < len(json); i++ {
		switch b := json[i]; {
		case text && b == '\\':
			i++
		case b == '"':
			text = !text
		case text:
		case b == '[' || b == '{':
			if depth++; depth > MaxNesting {
				return fmt.Errorf("nested more than %d deep", MaxNesting)
			}
			count++
		case b == ']' || b == '}':
			depth--
		case b == ',':
			count++
		}
		if count > values {
			return fmt.Errorf("more than %d values", values)
		}
	}
	return nil
}

func (r *reader) verifyTags() error {
	text, ok := r.tags[tagManifestName]
	if !ok {
		return nil // RFC 8493 leaves it out as well
	}
	promised, err := parseManifest(tagManifestName, text)
	if err != nil {
		return err
	}
	for name, sum := range promised {
		if got, ok := r.tags[name]; !ok || hexSum(got) != sum {
			return &Error{Kind: ErrChecksum, Name: name, Text: "is not what the tag manifest says", Do: again}
		}
	}
	return nil
}

func parseManifest(file string, text []byte) (map[string]string, error) {
	list := map[string]string{}
	for n, line := range strings.Split(strings.TrimRight(string(text), "\n"), "\n") {
		sum, name, ok := strings.Cut(strings.TrimRight(line, "\r"), " ")
		name = unescapeName(strings.TrimLeft(name, " *\t"))
		if _, err := hex.DecodeString(sum); !ok || err != nil || len(sum) != 64 || name == "" {
			return nil, &Error{
				Kind: ErrNotABag,
				Name: file,
				Text: fmt.Sprintf("line %d is not a checksum and a name", n+1),
				Do:   again,
			}
		}
		list[name] = strings.ToLower(sum)
	}
	return list, nil
}

// maxPart is the longest name, in bytes, that file systems take.
const maxPart = 255

// checkName refuses every name that could mean another place, or look like
// another name, on any system.
func checkName(name string, limits Limits) error {
	bad := func(text string) error {
		return &Error{Kind: ErrUnsafe, Name: name, Text: text, Do: "nothing of this bag was kept; ask who made it"}
	}
	switch {
	case name == "" || !utf8.ValidString(name):
		return bad("is empty or not UTF-8")
	case strings.HasPrefix(name, "/") || strings.Contains(name, `\`) || len(name) > 1 && name[1] == ':':
		return bad("is not relative to the bag")
	case len(name) > limits.Name:
		return &Error{
			Kind: ErrTooLarge,
			Name: name[:40] + "…",
			Text: fmt.Sprintf("its name has %d bytes, at most %d", len(name), limits.Name),
			Do:   "shorten it",
		}
	case strings.ContainsFunc(name, unicode.IsControl):
		return bad("has control characters in it")
	}
	parts := strings.Split(name, "/")
	if len(parts) > limits.Depth {
		return &Error{
			Kind: ErrTooLarge,
			Name: name,
			Text: fmt.Sprintf("%d folders deep, at most %d", len(parts), limits.Depth),
			Do:   "flatten it",
		}
	}
	for _, part := range parts {
		if len(part) > maxPart {
			return &Error{
				Kind: ErrTooLarge,
				Name: part[:40] + "…",
				Text: fmt.Sprintf("a part of its name has %d bytes, at most %d", len(part), maxPart),
				Do:   "no file system takes it: shorten it",
			}
		}
		if part == ".." || part == "." || part == "" {
			return bad("leaves the bag")
		}
	}
	return nil
}
