package cli

import (
	"fmt"
	"os"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"diorthos/core/volumes"
)

// keysOfRun is where the keys of one run are kept, so that nobody is asked twice.
const keysOfRun = "keys"

// sectorSizeFlag is a flag of every command that reads a disk.
const sectorSizeFlag = "sector-size"

// takeKeys gives each command that reads a disk the flags by which encrypted volumes are opened.
func takeKeys(list []*cli.Command) {
	for _, c := range list {
		takeKeys(c.Commands)
		for _, f := range c.Flags {
			if f.Names()[0] == sectorSizeFlag {
				c.Flags = append(c.Flags, keyFlags()...)
				break
			}
		}
	}
}

func keyFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringSliceFlag{
			Name: "key-file", Usage: "open encrypted volumes with what is in `FILE`: a key, or a passphrase; it is kept nowhere",
			Category: "Encrypted disks",
		},
		&cli.BoolFlag{
			Name: "unlock", Usage: "ask for the passphrase of an encrypted volume, at a terminal; it is kept nowhere",
			Category: "Encrypted disks",
		},
	}
}

// keysOf are what encrypted volumes are opened with in this run; nil where nothing was given.
func keysOf(c *cli.Command) (*volumes.Keys, error) {
	if k, ok := c.Root().Metadata[keysOfRun].(*volumes.Keys); ok {
		return k, nil
	}
	files := c.StringSlice("key-file")
	if len(files) == 0 && !c.Bool("unlock") {
		return nil, nil
	}
	k := &volumes.Keys{}
	for _, name := range files {
		if err := k.AddFile(name); err != nil {
			return nil, err
		}
	}
	if c.Bool("unlock") {
		in, ok := c.Root().Reader.(*os.File)
		if !ok || !term.IsTerminal(int(in.Fd())) {
			return nil, usage(
				c,
				fmt.Errorf("--unlock asks at a terminal, and this is none: give the passphrase in a file, by --key-file"),
			)
		}
		k.Ask = func(volume string) ([]byte, error) {
			_, _ = fmt.Fprintf(c.Root().ErrWriter, "passphrase of %s (empty to leave it closed): ", volume)
			secret, err := term.ReadPassword(int(in.Fd()))
			_, _ = fmt.Fprintln(c.Root().ErrWriter)
			return secret, err
		}
	}
	if c.Root().Metadata == nil {
		c.Root().Metadata = map[string]any{}
	}
	c.Root().Metadata[keysOfRun] = k
	return k, nil
}
