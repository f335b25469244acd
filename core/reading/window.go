package reading

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"io"
)

// A WindowLine is one line of a log as a person reads it.
type WindowLine struct {
	Number int    `json:"number"` // from 1
	Text   string `json:"text"`
}

// Window returns the lines from to to, both included, of a log, unpacked,
// decoded and cleaned as they were when events were made of them. Lines beyond
// the end are left out.
func Window(ctx context.Context, src Source, from, to int) (lines []WindowLine, err error) {
	body, err := OpenPlain(src)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, body.Close()) }()
	in := bufio.NewReaderSize(body, 64<<10)
	for number := 1; number <= to; number++ {
		if number%10_000 == 0 && ctx.Err() != nil {
			return nil, ctx.Err()
		}
		text, err := readLine(in)
		if len(text) == 0 && err != nil {
			if err == io.EOF {
				return lines, nil
			}
			return lines, err
		}
		if number >= from {
			lines = append(lines, WindowLine{number, clean(bytes.TrimSuffix(text, []byte("\n")))})
		}
	}
	return lines, nil
}

// readLine reads to the end of a line and keeps its first maxLine bytes. It
// returns nothing only at the end of the log.
func readLine(in *bufio.Reader) ([]byte, error) {
	var text []byte
	for {
		piece, err := in.ReadSlice('\n')
		text = append(text, piece[:min(len(piece), maxLine-len(text))]...)
		if !errors.Is(err, bufio.ErrBufferFull) {
			return text, err
		}
	}
}
