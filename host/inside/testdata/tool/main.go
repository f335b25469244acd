// Command tool is a system's only program, in a test: it does what its arguments say.
package main

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"time"
)

func main() {
	for i := 1; i < len(os.Args); i++ {
		word := os.Args[i]
		next := func() string { i++; return os.Args[i] }
		var err error
		switch word {
		case "write":
			name := next()
			err = os.WriteFile(name, []byte(next()), 0o644)
		case "mkdir":
			err = os.Mkdir(next(), 0o755)
		case "remove":
			err = os.Remove(next())
		case "say":
			fmt.Println(next())
		case "sleep":
			time.Sleep(time.Minute)
		case "look":
			list, _ := net.Interfaces()
			processes, _ := filepath.Glob("/proc/[0-9]*")
			_, policy := os.Stat("/usr/sbin/policy-rc.d")
			fmt.Printf("interfaces %d, processes %d, policy %v, mode %v\n", len(list), len(processes), policy == nil,
				os.WriteFile("/proc/sys/kernel/panic", []byte("9"), 0) != nil)
		}
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(3)
		}
	}
}
