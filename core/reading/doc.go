// Package reading turns logs into what happened: bytes into lines, lines into
// events, events into attempts, and for the attempt that failed the decisive
// event, the first of the chain that made it fail.
//
//	reader, err := reading.NewReader(dialects, lexicon, nil, watch, reading.Languages{})
//	timeline, err := reader.Read(ctx, sources, reading.Anchor{Now: now}, nil)
//	for _, a := range timeline.Attempts {
//		fmt.Println(a.Kind, a.Outcome, a.Decisive)
//	}
//
// A log is read once, in chunks, on all cores. Every chunk is searched for
// the literals of all rules, error words and watched patterns at the same
// time; only lines that hold one are looked at closely and kept, so memory
// does not grow with the size of the log. Dialects are data, described in
// docs/knowledge.md, section "Dialects".
package reading
