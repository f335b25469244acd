// Package iso reads ISO 9660 images as they lie on discs and install media:
// their files with Rock Ridge or Joliet names, as an [io/fs.FS], and what a
// firmware can start from them.
//
//	disc, err := iso.Open(image)
//	text, err := fs.ReadFile(disc, ".disk/info")
//	for _, e := range disc.Boot { fmt.Println(e.Platform, e.Sectors) }
//
// Formats: ECMA-119 (ISO 9660), the Rock Ridge interchange protocol (IEEE
// P1282), the Joliet specification, and the El Torito bootable CD-ROM format,
// version 1.0.
package iso
