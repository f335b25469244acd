// Command tools stands for dpkg, apt-get and apt-cache in a small system of a test.
package main

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

const (
	status = "/var/lib/dpkg/status"
	list   = "/var/lib/apt/lists/deck_Packages"
)

func main() {
	raw, err := os.ReadFile(status)
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(2)
	}
	unfinished := strings.Contains(string(raw), " ok unpacked")
	switch filepath.Base(os.Args[0]) + " " + os.Args[1] {
	case "dpkg --audit":
		if unfinished {
			fmt.Println("The following packages have been unpacked but not yet configured.")
		}
	case "dpkg --configure":
		fresh := strings.ReplaceAll(string(raw), " ok unpacked", " ok installed")
		if err := os.WriteFile(status, []byte(fresh), 0o644); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(2)
		}
	case "apt-get update":
		if err := os.WriteFile(list, []byte("Package: skerrow-deck\nVersion: 1.0\n"), 0o644); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(2)
		}
	case "apt-get check", "apt-cache dump":
	default:
		if !slices.Contains(os.Args, "-s") {
			os.Exit(2)
		}
	}
}
