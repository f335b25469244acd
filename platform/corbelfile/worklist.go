package corbelfile

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"strings"
)

// The lines of a worklist.
const (
	worklistHead = "corbel-worklist 1"
	worklistEnd  = "end"
)

// An Operation is done at the next start.
type Operation struct {
	Number    int
	Do        string // place, retire or switch
	Component string
	Version   string
	Payload   string // hash, of place
	At        string // path below SystemFolder
}

// WriteWorklist writes the operations of one transaction.
func WriteWorklist(w io.Writer, transaction string, list []Operation) error {
	out := bufio.NewWriter(w)
	_, _ = fmt.Fprintf(out, "%s\ntransaction %s\n", worklistHead, transaction)
	for _, op := range list {
		_, _ = fmt.Fprintf(out, "op %d\n do %s\n component %s %s\n", op.Number, op.Do, op.Component, op.Version)
		if op.Payload != "" {
			_, _ = fmt.Fprintf(out, " payload %s\n", op.Payload)
		}
		if op.At != "" {
			_, _ = fmt.Fprintf(out, " at %s\n", op.At)
		}
	}
	_, _ = fmt.Fprintln(out, worklistEnd)
	return out.Flush()
}

// ReadWorklist reads the operations. whole is false when the list breaks off
// before its end.
func ReadWorklist(r io.Reader) (list []Operation, whole bool, err error) {
	in := bufio.NewScanner(r)
	if !in.Scan() || in.Text() != worklistHead {
		return nil, false, &FormatError{
			In:   "corbel",
			What: "worklist: first line",
			Want: worklistHead,
			Got:  fmt.Sprintf("%.40q", in.Text()),
		}
	}
	for in.Scan() {
		line := in.Text()
		if line == worklistEnd {
			return list, true, in.Err()
		}
		if n, ok := strings.CutPrefix(line, "op "); ok {
			var op Operation
			if _, err := fmt.Sscan(n, &op.Number); err != nil {
				return list, false, &FormatError{In: "corbel", What: "worklist: number", Want: "digits", Got: n}
			}
			list = append(list, op)
			continue
		}
		if len(list) == 0 {
			continue
		}
		op := &list[len(list)-1]
		key, value, _ := strings.Cut(strings.TrimPrefix(line, " "), " ")
		switch key {
		case "do":
			op.Do = value
		case "component":
			op.Component, op.Version, _ = strings.Cut(value, " ")
		case "payload":
			op.Payload = value
		case "at":
			op.At = value
		}
	}
	return list, false, in.Err()
}

var (
	componentLine = []byte("\n component ")
	opLine        = []byte("\nop ")
)

// FindOperations finds in a worklist the operations on components that gone
// names; it is asked with the component and the version, a space between. Only
// lines that name a component are looked at, in one pass over a list of any
// size. It is a finder as upkeep.Excise wants one.
func FindOperations(gone func(component []byte) bool) func(data []byte, atEOF bool) (from, to, safe int) {
	return func(data []byte, atEOF bool) (from, to, safe int) {
		for at := 0; ; {
			i := bytes.Index(data[at:], componentLine)
			if i < 0 {
				break
			}
			i += at
			name := data[i+len(componentLine):]
			end := bytes.IndexByte(name, '\n')
			if end < 0 {
				if !atEOF {
					break
				}
				end = len(name)
			}
			at = i + 1
			if !gone(name[:end]) {
				continue
			}
			from = bytes.LastIndex(data[:i], opLine) + 1
			if from == 0 && !bytes.HasPrefix(data, opLine[1:]) {
				continue // not within an operation
			}
			if to = endOfOperation(data, i+1); to < 0 && !atEOF {
				return -1, -1, from
			} else if to < 0 {
				to = len(data)
			}
			return from, to, 0
		}
		if atEOF {
			return -1, -1, len(data)
		}
		return -1, -1, bytes.LastIndex(data, opLine) + 1
	}
}

// endOfOperation is where the first line begins behind from that is not
// indented; -1 if data ends before that is known.
func endOfOperation(data []byte, from int) int {
	for {
		i := bytes.IndexByte(data[from:], '\n')
		if i < 0 || from+i+1 >= len(data) {
			return -1
		}
		if from += i + 1; data[from] != ' ' {
			return from
		}
	}
}
