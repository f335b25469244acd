// Package fat makes FAT32 file systems on any block device, with no mount.
//
//	err := fat.Format(dev, fat.Options{Label: "ESP", Serial: 0x5ca1ab1e})
//
// Format: ECMA-107, with the 32-bit extension as UEFI Specification 2.10,
// section 13.3, requires it for an EFI system partition.
package fat
