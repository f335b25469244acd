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
		return nil, false, &FormatError{"worklist: first line", worklistHead, fmt.Sprintf("%.40q", in.Text())}
	}
	for in.Scan() {
		line := in.Text()
		if line == worklistEnd {
			return list, true, in.Err()
		}
		if n, ok := strings.CutPrefix(line, "op "); ok {
			var op Operation
			if _, err := fmt.Sscan(n, &op.Number); err != nil {
				return list, false, &FormatError{"worklist: number", "digits", n}
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

// NextOperation is a [bufio.SplitFunc] that cuts a worklist into its pieces:
// the lines before the first operation, each operation with its own lines, and
// the end. Joined they are the list, byte for byte.
func NextOperation(data []byte, atEOF bool) (advance int, token []byte, err error) {
	if len(data) == 0 {
		return 0, nil, nil
	}
	from := 0
	for {
		i := bytes.IndexByte(data[from:], '\n')
		if i < 0 || from+i+1 >= len(data) {
			if atEOF {
				return len(data), data, nil
			}
			return 0, nil, nil
		}
		from += i + 1
		if data[from] != ' ' {
			return from, data[:from], nil
		}
	}
}

var componentLine = []byte("\n component ")

// OperationOn is the component and version, with one space between, that a
// piece cut by NextOperation is about; nil if it is about none.
func OperationOn(piece []byte) []byte {
	i := bytes.Index(piece, componentLine)
	if i < 0 {
		return nil
	}
	name := piece[i+len(componentLine):]
	if end := bytes.IndexByte(name, '\n'); end >= 0 {
		name = name[:end]
	}
	return name
}
