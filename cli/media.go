package cli

import (
	"bufio"
	"context"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"diorthos/core/action"
	"diorthos/core/bag"
	"diorthos/core/block"
	"diorthos/core/firmware"
	"diorthos/core/media"
	"diorthos/core/readiness"
	"diorthos/core/system"
	"diorthos/host"
	"diorthos/platform"
)

func mediaCommand() *cli.Command {
	return &cli.Command{
		Name: "media", Usage: "look at install images, say where they start, and write them",
		Commands: []*cli.Command{
			{
				Name: "inspect", Usage: "say what an image is and in which firmware modes it starts", ArgsUsage: "IMAGE.iso",
				Description: "With --sums the image is compared with the line of a checksum file that names it. A signature\n" +
					"is one over that file or, without --sums, over the image itself. Exit status 1 if nothing\n" +
					"starts it, the checksum differs, or the signature proves nothing.\n\n" +
					"Examples:\n" +
					"   diorthos media inspect --sums SHA256SUMS netinst.iso\n" +
					"   diorthos media inspect --sums SHA512SUMS --signature SHA512SUMS.sign --keyring vendor.gpg netinst.iso",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "sums", Usage: "`FILE` of SHA-256 or SHA-512 checksums"},
					&cli.StringFlag{Name: "signature", Usage: "`FILE` with a detached OpenPGP signature"},
					&cli.StringFlag{Name: "keyring", Usage: "`FILE` with the keys to trust, exported from a keyring"}, jsonFlag(),
				},
				Action: inspectMedium,
			},
			{
				Name: "copy", Usage: "copy a disc to an image, and read it again", ArgsUsage: "DISC",
				Description: "Reads what belongs to the image, not what a drive shows behind it. A place that cannot be read\n" +
					"is tried three times, and ends it. The disc is read twice: both must agree. Nothing half is\n" +
					"left under the name.\n\n" +
					"Examples:\n" +
					"   diorthos media copy /dev/sr0 --to install.iso\n" +
					"   diorthos media inspect install.iso",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "to", Usage: "the image `FILE` to make", TakesFile: true, Required: true}, jsonFlag(),
				},
				Action: copyDisc,
			},
			{
				Name:      "fit",
				Usage:     "say whether an image starts and installs on a machine, and what would let it",
				ArgsUsage: "IMAGE.iso",
				Description: "Exit status 1 if it does not fit.\n\n" +
					"Examples:\n" +
					"   diorthos media fit --live netinst.iso\n" +
					"   diorthos media fit --machine kestrel-office-3 netinst.iso\n" +
					"   diorthos media fit --bag kestrel.bag.tar.gz --firmware uefi netinst.iso",
				Flags: append(append(lookFlags(), serviceFlags()...), &cli.StringFlag{
					Name:  "machine",
					Usage: "the machine of this `NAME`, as the service knows it",
				}, &cli.StringFlag{
					Name:  "bag",
					Usage: "a `BAG` that was gathered",
				}, &cli.StringFlag{
					Name:  "firmware",
					Usage: "the machine's firmware `MODE`, where it cannot be measured",
				}, jsonFlag()),
				Action: fitMedium,
			},
			{
				Name: "write", Usage: "write an image so that a firmware starts it, and read it back", ArgsUsage: "IMAGE.iso",
				Description: "As it is when it starts so; else, for UEFI, its files on a FAT partition. What is overwritten\n" +
					"is kept in a journal for an undo; all the same a target that holds anything has to be named by\n" +
					"--confirm.\n\n" +
					"Example:\n" +
					"   diorthos media write --to stick.img --firmware uefi netinst.iso",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "to", Usage: "the stick, a `DEVICE` or an image of one", Required: true},
					&cli.StringFlag{Name: "firmware", Usage: "the `MODE` that will start it: uefi or bios", Required: true},
					&cli.StringFlag{Name: "confirm", Usage: "the target's file `NAME`, to say that what is on it may be lost"},
					&cli.BoolFlag{Name: "dry-run", Usage: "say how it would be written, and write nothing"},
					&cli.StringFlag{
						Name:  "journal",
						Usage: "`FILE` for the journal; beside an image by default, in the current folder for a device",
					},
					&cli.BoolFlag{
						Name:  "no-undo",
						Usage: "do not keep what is on the target: quicker, and takes no room",
					}, sectorFlag(), jsonFlag(),
				},
				Action: writeMedium,
			},
		},
	}
}

// copyDisc makes an image of a disc.
func copyDisc(ctx context.Context, c *cli.Command) error {
	a, err := args(c, "DISC")
	if err != nil {
		return err
	}
	src, err := host.OpenDisk(a[0], 512, true)
	if err != nil {
		return err
	}
	defer func() { _ = src.Close() }() // it was only read
	length, err := media.DiscSize(src)
	if err != nil {
		return fmt.Errorf("%s: %w", a[0], err)
	}
	made := struct {
		File   string `json:"file"`
		Size   int64  `json:"size"`
		SHA256 string `json:"sha256"`
	}{File: c.String("to"), Size: length}
	read := newBar(c, "reading", length)
	err = fetched(made.File, func(to io.Writer) (err error) {
		made.SHA256, err = media.CopyDisc(ctx, src, length, to, read.show)
		return err
	}, func(from io.Reader) error {
		kept := sha256.New()
		if _, err := io.Copy(kept, from); err != nil {
			return err
		}
		if hex.EncodeToString(kept.Sum(nil)) != made.SHA256 {
			return errors.New("what was written is not what was read")
		}
		again, err := media.CopyDisc(ctx, src, length, io.Discard, read.show)
		if err == nil && again != made.SHA256 {
			err = errors.New("read a second time the disc was another: clean it, or take another drive or disc")
		}
		return err
	})
	read.clear()
	if err != nil {
		return fmt.Errorf("%s: %w", a[0], err)
	}
	if done, err := writeJSON(c, made); done {
		return err
	}
	p := newPage(c)
	p.line("%s %s: %s, read twice and the same", p.good(markGood), p.strong(made.File), size(made.Size))
	p.line("sha256 %s", made.SHA256)
	p.line("%s", p.faint("whether it is what the vendor made: diorthos media inspect --sums FILE "+made.File))
	return nil
}

func openMedium(c *cli.Command) (*block.Image, *media.Medium, error) {
	a, err := args(c, "IMAGE")
	if err != nil {
		return nil, nil, err
	}
	src, err := host.OpenDisk(a[0], 512, true)
	if err != nil {
		return nil, nil, err
	}
	m, err := inspected(src, a[0])
	if err != nil {
		_ = src.Close() // it was only read
		return nil, nil, err
	}
	return src, m, nil
}

// inspected looks at an image or at a written stick. A release is known by the
// title that its media bear.
func inspected(src *block.Image, path string) (*media.Medium, error) {
	m, err := media.Inspect(src)
	if errors.Is(err, media.ErrNotAMedium) {
		if own, ok, ownErr := familyMedium(path, src.Size()); ok || ownErr != nil {
			m, err = own, ownErr
		}
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	k, err := loadKnowledge()
	if err != nil {
		return nil, err
	}
	m.Release = k.ReleaseOfMedium(m.Title)
	return m, nil
}

// familyMedium asks those who know a family whether an image is one of theirs.
func familyMedium(path string, size int64) (*media.Medium, bool, error) {
	raw, err := readMedium(path, size)
	if err != nil || raw == nil {
		return nil, false, err
	}
	for _, s := range suppliersOf(platform.All()) {
		if m, ok, err := s.DescribeMedium(path, raw); ok || err != nil {
			return m, ok, err
		}
	}
	return nil, false, nil
}

func inspectMedium(_ context.Context, c *cli.Command) error {
	src, m, err := openMedium(c)
	if err != nil {
		return err
	}
	defer func() { _ = src.Close() }()
	sum, err := checkSum(c, src)
	if err != nil {
		return err
	}
	signature, err := checkSignature(c, src)
	if err != nil {
		return err
	}
	done, err := writeJSON(c, struct {
		*media.Medium
		Checksum  string           `json:"checksum,omitempty"`
		Signature *media.Signature `json:"signature,omitempty"`
	}{m, sum, signature})
	if !done {
		p := newPage(c)
		p.line("%s  %s  %s", p.strong(m.Title), size(m.Size), m.Architecture)
		for _, how := range m.How {
			p.line("  %s %s", p.good(markGood), how)
		}
		switch {
		case m.Note != "":
			p.hangingIndent("  "+markNone+" ", m.Note)
		case len(m.How) == 0:
			p.line("  %s nothing on it can be started", p.bad(markBroken))
		}
		if sum != "" {
			p.hangingIndent("  checksum   ", sum)
		}
		showSignature(p, signature)
	}
	if err == nil &&
		(len(m.Modes()) == 0 && m.Note == "" || strings.HasPrefix(sum, "differs") || signature != nil && !signature.Good) {
		return errFound
	}
	return err
}

func showSignature(p *page, s *media.Signature) {
	if s == nil {
		return
	}
	mark := p.good(markGood)
	if !s.Good {
		mark = p.bad(markBroken)
	}
	p.hangingIndent("  signature  ", mark+" "+s.Text)
	if s.Fingerprint != "" {
		p.line("             key %s, made %s", s.Fingerprint, when(s.Made.UTC()))
	}
}

// checkSignature returns nil if none was given.
func checkSignature(c *cli.Command, src *block.Image) (*media.Signature, error) {
	file, keyring := c.String("signature"), c.String("keyring")
	if file == "" && keyring == "" {
		return nil, nil //nolint:nilnil // nothing to check
	}
	if file == "" || keyring == "" {
		return nil, usage(c, errors.New("--signature and --keyring go together"))
	}
	signature, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	defer func() { _ = signature.Close() }()
	keys, err := os.Open(keyring)
	if err != nil {
		return nil, err
	}
	defer func() { _ = keys.Close() }()
	var signed io.Reader = io.NewSectionReader(src, 0, src.Size())
	if sums := c.String("sums"); sums != "" {
		f, err := os.Open(sums)
		if err != nil {
			return nil, err
		}
		defer func() { _ = f.Close() }()
		signed = f
	}
	s, err := media.CheckSignature(signed, signature, keys, time.Now())
	if err != nil {
		return nil, fmt.Errorf("%s, with the keys of %s: %w", file, keyring, err)
	}
	return &s, nil
}

// digests are the hashes of checksum files, by the length of their hex digits.
var digests = map[int]func() hash.Hash{2 * sha256.Size: sha256.New, 2 * sha512.Size: sha512.New}

// checkSum compares the image with the line of a checksum file that names it.
func checkSum(c *cli.Command, src *block.Image) (string, error) {
	file := c.String("sums")
	if file == "" {
		return "", nil
	}
	f, err := os.Open(file)
	if err != nil {
		return "", err
	}
	defer func() { _ = f.Close() }()
	name := filepath.Base(c.Args().First())
	for in := bufio.NewScanner(f); in.Scan(); {
		fields := strings.Fields(in.Text())
		if len(fields) != 2 || strings.TrimPrefix(fields[1], "*") != name {
			continue
		}
		digest, ok := digests[len(fields[0])]
		if !ok {
			return "", fmt.Errorf("%s: the checksum of %s is neither SHA-256 nor SHA-512", file, name)
		}
		h := digest()
		b := newBar(c, "checking", src.Size())
		if _, err := io.Copy(h, io.NewSectionReader(src, 0, src.Size())); err != nil {
			return "", err
		}
		b.clear()
		if got := hex.EncodeToString(h.Sum(nil)); got != strings.ToLower(fields[0]) {
			return "differs: it is " + got + ", want " + fields[0], nil
		}
		return "right, " + fields[0], nil
	}
	return "", fmt.Errorf("%s names no %s", file, name)
}

func fitMedium(ctx context.Context, c *cli.Command) error {
	src, m, err := openMedium(c)
	if err != nil {
		return err
	}
	defer func() { _ = src.Close() }()
	facts, err := factsForMedium(ctx, c)
	if err != nil {
		return err
	}
	list := []readiness.Verdict{readiness.Starts(facts, readiness.Medium{
		Title:        m.Title,
		Modes:        m.Modes(),
		Architecture: m.Architecture,
	})}
	if facts.Firmware != nil {
		if way, err := m.WayFor(facts.Firmware.Mode); err != nil {
			list[0].Do = err.Error()
		} else if list[0].Verdict == readiness.Fit {
			list[0].Do = fmt.Sprintf(
				"Write it %s: diorthos media write --firmware %s --to STICK %s",
				way, facts.Firmware.Mode, filepath.Base(c.Args().First()),
			)
		}
	}
	if m.Release != "" {
		k, err := loadKnowledge()
		if err != nil {
			return err
		}
		if r, err := findRelease(k, m.Release); err == nil {
			report, err := readiness.Judge(readiness.Question{Facts: facts, Release: r, Now: time.Now()})
			if err != nil {
				return err
			}
			list = append(list, slices.DeleteFunc(report.Verdicts, func(v readiness.Verdict) bool {
				return v.ID == "path" || v.ID == "space"
			})...)
		}
	}
	worst := readiness.Fit
	for _, v := range list {
		if v.Verdict == readiness.Unfit {
			worst = v.Verdict
		}
	}
	done, err := writeJSON(c, list)
	if !done {
		p := newPage(c)
		p.line("%s  %s", p.strong(m.Title), m.Architecture)
		showVerdicts(p, list)
	}
	return unfit(worst, err)
}

// factsForMedium are those of a machine at hand, of one that the service knows,
// or none but the firmware's mode.
func factsForMedium(ctx context.Context, c *cli.Command) (*bag.Facts, error) {
	facts := &bag.Facts{}
	if name := c.String("machine"); name != "" {
		known, err := service(c).Machine(ctx, name)
		if err != nil {
			return nil, err
		}
		facts = &bag.Facts{
			Gathered: known.Gathered,
			Disks:    known.Disks,
			Hardware: known.Hardware,
			Firmware: known.Firmware,
			State:    known.Facts,
			Machine:  bag.Machine{Name: known.Name, Site: known.Site, Model: known.Model},
		}
	} else if c.String("bag") != "" || c.String("image") != "" || c.String("root") != "" || c.Bool("live") {
		return factsFor(ctx, c)
	}
	mode, err := firmwareFlag(c)
	if err != nil {
		return nil, err
	}
	if mode != "" {
		facts.Firmware = &bag.Firmware{Mode: mode}
	}
	return facts, nil
}

func writeMedium(ctx context.Context, c *cli.Command) (err error) {
	mode, err := firmwareFlag(c)
	if err != nil || mode == "" {
		return errors.Join(err, usage(c, fmt.Errorf("--firmware %q: want uefi or bios", mode)))
	}
	src, m, err := openMedium(c)
	if err != nil {
		return err
	}
	defer func() { _ = src.Close() }()
	way, err := m.WayFor(mode)
	if err != nil {
		return fmt.Errorf("%s: %w", m.Title, err)
	}
	to := c.String("to")
	target, err := describedDisk(c, to, system.Needs{})
	if err != nil {
		return err
	}
	w := written{Title: m.Title, To: to, Firmware: mode, Way: way, Style: action.StyleOf(way)}
	if !c.Bool("json") {
		p := newPage(c)
		p.line("%s to %s for %s: %s, %s", p.strong(w.Title), w.To, mode, way, w.Style)
		p.line(
			"  the target is %s, %s, with %s", target.Source, size(target.Size),
			plural(len(target.Partitions), "partition", "partitions"),
		)
	}
	params := map[string]string{"image": absolute(c.Args().First()), "firmware": string(mode)}
	return performOnDiskWith(ctx, c, to, "media.write", params, func(r changeReport) any {
		w.changeReport = r
		return w
	})
}

// written says what became of a target, or would.
type written struct {
	changeReport
	Title    string        `json:"title"`
	To       string        `json:"to"`
	Firmware firmware.Mode `json:"firmware"`
	Way      media.Way     `json:"way"`
	Style    string        `json:"style"`
}
