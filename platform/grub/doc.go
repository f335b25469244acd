// Package grub does what GRUB does with its configuration, as far as it decides what is
// started: it runs the script over the volumes of a disk, chooses the entry that is started
// when nobody does, and says what that entry loads, or which of its commands fails first.
//
//	menu, err := grub.Run(world, grub.Begin{Device: "hd0,gpt2", Prefix: "/boot/grub"})
//	start := menu.Default()
//	fmt.Println(start.Kernel.Path, start.Arguments, start.Missing)
//
// The language is that of the GRUB manual, chapters "Writing your own configuration file
// directly" and "The list of available commands". Commands that only change what is shown
// count as done. Nothing is guessed: a configuration that is not there means the loader's
// own prompt.
package grub
