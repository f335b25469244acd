package corbel

import (
	"fmt"
	"io/fs"
	"path/filepath"

	"diorthos/core/firmware"
	"diorthos/core/media"
	"diorthos/core/store"
	"diorthos/platform/corbelfile"
)

// mediumExtension is that of an install medium's file.
const mediumExtension = ".pack"

// Medium opens an install medium.
func (Adapter) Medium(name string, raw []byte) (store.Source, bool, error) {
	if filepath.Ext(name) != mediumExtension {
		return nil, false, nil
	}
	s, err := PackSource(filepath.Base(name), raw)
	return s, true, err
}

// DescribeMedium says what is on an install medium. In which modes it starts is
// noted on the nameplate of the machine that has it.
func (Adapter) DescribeMedium(name string, raw []byte) (*media.Medium, bool, error) {
	if filepath.Ext(name) != mediumExtension {
		return nil, false, nil
	}
	p, err := corbelfile.ReadPack(raw)
	if err != nil {
		return nil, true, err
	}
	m := &media.Medium{
		Title:        fmt.Sprintf("%s, build %d", p.Offer.Title, p.Offer.Build),
		Label:        p.Offer.ID,
		Architecture: p.Offer.Architecture,
		Size:         int64(len(raw)),
		Disc:         []firmware.Mode{},
		Stick:        []firmware.Mode{},
		How:          []string{},
		Note: "in which modes it starts is noted on the nameplate of the machine that has it: diorthos gather " +
			"reads it there",
	}
	for _, c := range p.Contents {
		m.Total += int64(c.Size)
		m.Largest = max(m.Largest, int64(c.Size))
	}
	if bad := p.Damaged(); bad != "" {
		return nil, true, fmt.Errorf("%s: payload %s is not what its hash says: the medium is damaged", m.Title, bad)
	}
	return m, true, nil
}

// Twin opens the system volume of a healthy machine.
func (Adapter) Twin(name string, volume fs.FS) (store.Source, error) { return TwinSource(name, volume) }

// Service is the vendor's, at an address.
func (Adapter) Service(address string, build int) store.Source { return VendorSource(address, build) }
