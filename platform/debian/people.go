package debian

import (
	"io/fs"
	"strconv"
	"strings"
)

// Accounts of people have numbers of this range (Debian Policy 9.2.2).
const firstPerson, lastPerson = 1000, 59999

// People are the names of accounts of people, and the names that these people gave.
func (Adapter) People(root fs.FS) (list []string) {
	for _, line := range strings.Split(readText(root, "etc/passwd"), "\n") {
		f := strings.Split(line, ":")
		if len(f) < 7 {
			continue
		}
		if n, err := strconv.Atoi(f[2]); err != nil || n < firstPerson || n > lastPerson {
			continue
		}
		list = append(list, f[0])
		if name, _, _ := strings.Cut(f[4], ","); name != "" {
			list = append(list, name)
			list = append(list, strings.Fields(name)...)
		}
	}
	return list
}
