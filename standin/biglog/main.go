// Command biglog writes a large system log of Skerrow Ferries to standard
// output, for measuring how fast logs are read.
//
//	biglog --bytes 1073741824 [--kind quiet|near|utf16]
package main

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"strings"
	"unicode/utf16"

	"diorthos/platform/corbelfile"
)

var (
	words = strings.Fields("started session for user timetable berth link up renegotiated lease renewed pump pressure " +
		"nominal door closed queue drained heartbeat sent cache warmed route updated packet forwarded screen refreshed " +
		"ticket printed scan accepted")
	parts = strings.Fields("kernel systemd[1] skerrow-board[812] sshd[993] dhclient[401] cron[77] gangway[512]")
	// near are words that many signatures begin with, in lines that match none.
	near = []string{
		"No space for the queue", "Could not be happier with berth", "error.log rotated", "libgpg-error0 looked at",
		"dpkg: status of pumps", "Failed0 attempts", "held packages counted",
	}
)

func main() {
	size := flag.Int64("bytes", 1<<30, "how much to write")
	kind := flag.String(
		"kind", "quiet",
		"quiet: a failure every 50,000 lines; near: every line nearly hits; utf16: quiet, in UTF-16LE; worklist: pending "+
			"work of Corbel",
	)
	flag.Parse()
	if err := write(os.Stdout, *size, *kind); err != nil {
		_, _ = fmt.Fprintln(os.Stderr, "biglog:", err)
		os.Exit(2)
	}
}

func write(w io.Writer, size int64, kind string) error {
	out := bufio.NewWriterSize(w, 1<<20)
	r := rand.New(rand.NewPCG(1, 2))
	if kind == "worklist" {
		return worklist(out, r, size)
	}
	block := make([]byte, 0, 8<<20)
	for n := int64(0); n < size; {
		block = lines(block[:0], r, kind == "near", n)
		if kind == "utf16" {
			block = inUTF16(block)
		}
		for range 4 { // making them is slower than reading them
			if _, err := out.Write(block); err != nil {
				return err
			}
			n += int64(len(block))
		}
	}
	return out.Flush()
}

// worklist writes pending work, of which one operation in 900 is on a component
// that no store has.
func worklist(out *bufio.Writer, r *rand.Rand, size int64) error {
	var n int64
	ops := make([]corbelfile.Operation, 4000)
	for n < size {
		for i := range ops {
			ops[i] = corbelfile.Operation{
				Number:    i + 1,
				Do:        "place",
				Component: fmt.Sprintf("corbel-part-%d", r.IntN(200)),
				Version:   "7.2.5",
				Payload:   fmt.Sprintf("%016x", r.Uint64()),
				At:        "parts/part0.bin",
			}
			if r.IntN(900) == 0 {
				ops[i].Component = "corbel-ticket-scan"
			}
		}
		var block bytes.Buffer
		if err := corbelfile.WriteWorklist(&block, "U7213", ops); err != nil {
			return err
		}
		body := block.Bytes()
		if n > 0 { // one head for all
			body = body[bytes.Index(body, []byte("op ")):]
		}
		body = bytes.TrimSuffix(body, []byte("end\n"))
		if _, err := out.Write(body); err != nil {
			return err
		}
		n += int64(len(body))
	}
	if _, err := out.WriteString("end\n"); err != nil {
		return err
	}
	return out.Flush()
}

func lines(b []byte, r *rand.Rand, nearly bool, n int64) []byte {
	for i := range 20_000 {
		b = fmt.Appendf(b, "Nov 22 06:%02d:%02d lerrick-kiosk-2 %s:", i/60%60, i%60, parts[r.IntN(len(parts))])
		if nearly {
			b = append(append(b, ' '), near[r.IntN(len(near))]...)
		}
		for range 8 {
			b = append(append(b, ' '), words[r.IntN(len(words))]...)
		}
		b = fmt.Appendf(b, " %d\n", n+int64(i))
	}
	return fmt.Appendf(
		b, "Nov 22 06:59:59 lerrick-kiosk-2 skerrow-board[812]: error: feed could not be fetched, will retry\n",
	)
}

func inUTF16(b []byte) []byte {
	var out bytes.Buffer
	for _, u := range utf16.Encode([]rune(string(b))) {
		_ = binary.Write(&out, binary.LittleEndian, u) // a buffer takes all
	}
	return out.Bytes()
}
