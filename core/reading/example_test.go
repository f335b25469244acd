package reading_test

import (
	"context"
	"fmt"
	"io"
	"strings"
	"time"

	"diorthos/core/knowledge"
	"diorthos/core/reading"
	shipped "diorthos/knowledge"
)

// Of a log, the attempts, and the line that decided the one that failed.
func ExampleReader_Read() {
	k, err := knowledge.Load(shipped.Files)
	if err != nil {
		fmt.Println(err)
		return
	}
	log := `Unpacking skerrow-crew (1.4) ...
dpkg: error processing archive /var/cache/apt/archives/skerrow-crew_1.4_all.deb (--unpack):
 cannot copy extracted data for './srv/tides.db' to '/srv/tides.db.dpkg-new': failed to write (No space left on device)
Errors were encountered while processing:
 /var/cache/apt/archives/skerrow-crew_1.4_all.deb
E: Sub-process /usr/bin/dpkg returned an error code (1)
`
	source := reading.Source{Name: "term.log", Size: int64(len(log)), Open: func() (io.ReadCloser, error) {
		return io.NopCloser(strings.NewReader(log)), nil
	}}
	now := time.Date(2026, 11, 22, 12, 0, 0, 0, time.UTC)
	timeline, err := k.Reader.Read(context.Background(), []reading.Source{source}, reading.Anchor{Now: now}, nil)
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, attempt := range timeline.Attempts {
		fmt.Printf("%s of %s, line %d\n", attempt.Outcome, attempt.Object, attempt.Decisive.Line)
	}
	// Output:
	// failed of skerrow-crew, line 2
}
