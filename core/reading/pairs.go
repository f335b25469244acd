package reading

import (
	"regexp"
	"strconv"
	"strings"
	"time"
)

// A line of pairs, KEY=VALUE, as many programs write theirs: a value with a space in it is a string in double quotes.
var (
	pair      = regexp.MustCompile(`([A-Za-z_][\w.-]*)=("(?:[^"\\]|\\.)*"|[^\s"]*)(?:\s+|$)`)
	pairsOnly = regexp.MustCompile(`^(?:[A-Za-z_][\w.-]*=(?:"(?:[^"\\]|\\.)*"|[^\s"]*)(?:\s+|$)){2,}$`)
)

// saidIn is the key under which lines of pairs hold what was said: the one with the longest strings. It is empty where
// the lines are not all of the same keys.
func saidIn(lines []string) (key string) {
	keys := ""
	lengths := map[string]int{}
	quoted := false
	for _, l := range lines {
		if isBlank(l) {
			continue
		}
		if !pairsOnly.MatchString(l) {
			return ""
		}
		own := ""
		for _, m := range pair.FindAllStringSubmatch(l, -1) {
			own += m[1] + " "
			if strings.HasPrefix(m[2], `"`) {
				lengths[m[1]] += len(m[2])
				quoted = quoted || strings.Contains(m[2], " ")
			}
		}
		if keys == "" {
			keys = own
		}
		if own != keys {
			return ""
		}
	}
	if !quoted { // such as what a program is configured by
		return ""
	}
	for k, n := range lengths {
		if n > lengths[key] || n == lengths[key] && k < key {
			key = k
		}
	}
	return key
}

// valueOf is the value under a key, and the time that the line names.
func valueOf(line, key string) (value string, at time.Time) {
	for _, m := range pair.FindAllStringSubmatch(line, -1) {
		text := m[2]
		if strings.HasPrefix(text, `"`) {
			if plain, err := strconv.Unquote(text); err == nil {
				text = plain
			} else {
				text = escapes.Replace(text[1 : len(text)-1])
			}
		}
		if m[1] == key {
			value = text
		} else if t, err := time.Parse(time.RFC3339Nano, text); err == nil && at.IsZero() {
			at = t.UTC()
		}
	}
	return value, at
}
