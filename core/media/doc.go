// Package media tells what an install medium is and where it starts, and plans
// how it has to be written for a firmware.
//
//	m, err := media.Inspect(image, size)
//	fmt.Println(m.Title, m.Architecture, m.Stick) // debian …, amd64, [bios uefi]
//
// What a firmware starts from: El Torito's entries on an optical disc; on a
// stick the boot code of sector 0 (BIOS), or EFI/BOOT/BOOT*.EFI on a FAT
// partition (UEFI 2.10, section 3.5.1.1).
package media
