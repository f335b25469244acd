package corbel

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"diorthos/core/block"
	"diorthos/core/fat"
	"diorthos/core/layout"
	"diorthos/platform/corbelfile"
)

// A Request asks a machine to try something.
type Request struct {
	Offer string // id of an offer; empty for an install from the medium in the drive
	At    time.Time
	Link  Link // to the vendor
}

// An Outcome is what came of it.
type Outcome struct {
	OK     bool
	Stage  string // where it stopped
	Code   uint32
	Text   string
	Screen []string // what a person would have seen
}

// A run is one attempt.
type run struct {
	*logs
	ctx   context.Context //nolint:containedctx // lives as long as one call
	m     *Machine
	v     *volumes
	req   Request
	offer corbelfile.Offer
	pack  *corbelfile.Pack
	rel   corbelfile.Release
	clean bool // an install from a medium
	moved bool // the clock was set by the network
	since time.Time
	stage string // that is under way
}

// Attempt runs the set-up engine. Whatever it changed is taken back when it
// fails; its logs stay.
func (m *Machine) Attempt(ctx context.Context, req Request) (out *Outcome, err error) {
	dev, err := block.OpenImage(m.Disk(), 512, false)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, dev.Close()) }()
	req.Link.serial = m.Plate.Serial
	v, err := m.mount(dev, m.clockAt(req.At))
	if err != nil {
		return nil, err
	}
	if v.sys == nil {
		return nil, fmt.Errorf("machine %s: no system volume can be read", m.Plate.Name)
	}
	r := m.run(ctx, v, req)
	var stopped *stop
	failed := r.stages()
	if failed != nil && ctx.Err() != nil {
		return nil, failed
	}
	if failed != nil && !errors.As(failed, &stopped) { // something that it reads is not as it has to be
		stopped = &stop{stage: r.stage, operation: "state", code: codeState, text: failed.Error()}
	}
	if r.moved {
		m.Plate.Clock.Offset = 0
		if err := m.SavePlate(); err != nil {
			return nil, err
		}
	}
	if stopped == nil {
		if err := r.done(); err != nil {
			return nil, err
		}
		return &Outcome{OK: true, Text: "done"}, v.keep(dev)
	}
	r.rollBack(stopped)
	fresh, err := m.mount(dev, r.clock().Add(r.zone)) // without what was done
	if err != nil {
		return nil, err
	}
	if err := errors.Join(r.write(fresh.sys), fresh.keep(dev)); err != nil {
		return nil, err
	}
	return &Outcome{Stage: stopped.stage, Code: stopped.code, Text: stopped.text}, nil
}

func (m *Machine) run(ctx context.Context, v *volumes, req Request) *run {
	l := &logs{
		now:    req.At,
		offset: time.Duration(m.Plate.Clock.Offset) * time.Second,
		zone:   time.Duration(m.Plate.Clock.Zone) * time.Minute,
	}
	return &run{logs: l, ctx: ctx, m: m, v: v, req: req, since: req.At}
}

// clockAt is what the machine's clock shows at a time.
func (m *Machine) clockAt(at time.Time) time.Time {
	return at.Add(time.Duration(m.Plate.Clock.Offset)*time.Second + time.Duration(m.Plate.Clock.Zone)*time.Minute)
}

// done ends the logs of an attempt that went well.
func (r *run) done() error {
	r.both("close", "note", "ends: done (0x00000000)")
	return r.write(r.v.sys)
}

// rollBack logs what was taken back, with the complaints that come along.
func (r *run) rollBack(s *stop) {
	r.say(s.stage, s.operation, "fault", "%s (0x%08x)", s.text, s.code)
	r.say("rollback", "begin", "warn", "stage %s did not end; taking back", s.stage)
	r.keep("store", "warn", "transaction %s withdrawn", r.offer.ID)
	r.say("rollback", "files", "fault", "taking back: cannot release handle of the work folder (0x%08x)", codeRollback)
	r.carry("fault", "job %s ended with 0x%08x", r.offer.ID, codeGeneral)
	r.say("rollback", "end", "note", "taken back")
	r.both("close", "fault", "ends: could not be completed (0x%08x)", codeGeneral)
}

func (r *run) stages() error {
	r.stage = "survey"
	rel, err := state[corbelfile.Release](r.v.sys, corbelfile.ReleasePath)
	if err != nil {
		r.both("open", "note", "begins: %s", cmp.Or(r.req.Offer, "medium"))
		return err
	}
	r.rel = rel
	found, err := r.choose()
	if err != nil || !found {
		return err
	}
	for _, stage := range []struct {
		name string
		do   func() error
	}{{"survey", r.survey}, {"fetch", r.fetch}, {"lay", r.lay}, {"wake", r.wake}, {"settle", r.settle}} {
		if err := r.ctx.Err(); err != nil {
			return err
		}
		r.stage = stage.name
		if err := stage.do(); err != nil {
			return err
		}
	}
	return nil
}

// choose opens the attempt. Nothing is to be done if the offer is not there
// any more, or is held back.
func (r *run) choose() (bool, error) {
	if r.req.Offer == "" {
		r.clean = true
		r.offer = corbelfile.Offer{ID: "medium", Kind: "install", As: corbelfile.OwnerSystem}
		r.both("open", "note", "begins: install medium: build %d, asked by system", r.rel.Build)
		return true, nil
	}
	list, err := state[[]corbelfile.Offer](r.v.sys, corbelfile.OffersPath)
	if err != nil {
		r.both("open", "note", "begins: update %s: build %d, asked by system", r.req.Offer, r.rel.Build)
		return false, err
	}
	i := slices.IndexFunc(list, func(o corbelfile.Offer) bool { return o.ID == r.req.Offer })
	if i < 0 || list[i].Held {
		r.both("open", "note", "begins: update %s: build %d, asked by system", r.req.Offer, r.rel.Build)
		r.say("survey", "offers", "note", "%s is not offered or is held back: nothing to do", r.req.Offer)
		return false, nil
	}
	r.offer = list[i]
	r.both(
		"open", "note", "begins: %s %s: build %d to %d, asked by %s", r.offer.Kind, r.offer.ID, r.rel.Build, r.offer.Build,
		r.offer.As,
	)
	return true, nil
}

// noise is what healthy machines log too.
func (r *run) noise() {
	r.say("survey", "panel", "fault", "panel table has no entry for id 0x%04x (0x20100031)", 0x7a10+r.m.Plate.Width%16)
	r.say("survey", "power", "note", "mains")
	r.keep("catalogue", "fault", "orphan seed %s ignored (0x20120044)", strings.ToLower(r.m.Plate.Serial))
	r.carry("warn", "no peer on this line holds %s, asking the vendor (0x20110031)", r.offer.ID)
}

func (r *run) survey() error {
	const stage = "survey"
	r.noise()
	if r.offer.As != corbelfile.OwnerSystem {
		return halt(stage, "rights", codeRights, "account %s may not change the system", r.offer.As)
	}
	r.say(stage, "rights", "note", "asked by %s", r.offer.As)
	if err := r.pending(); err != nil {
		return err
	}
	if r.clean {
		return r.surveyMedium()
	}
	if err := r.courier(); err != nil {
		return err
	}
	if err := r.policy(); err != nil {
		return err
	}
	// the pattern is right
	if left, _ := fs.Glob(r.v.sys, path.Join(corbelfile.UpdateFolder, corbelfile.WorkPrefix+"*")); len(left) > 0 {
		return halt(
			stage, "work-folder", codeLeftover, "work folder %s of an earlier attempt is in the way", path.Base(left[0]),
		)
	}
	if err := r.sound(); err != nil {
		return err
	}
	if err := r.fits(); err != nil {
		return err
	}
	return r.room()
}

func (r *run) pending() error {
	t, err := state[corbelfile.Transaction](r.v.sys, corbelfile.TransactionPath)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	if !t.Complete {
		return halt("survey", "pending", codeHalfDone, "transaction %s was begun and not completed", t.ID)
	}
	return halt("survey", "pending", codeRestartOwed, "transaction %s waits for a restart", t.ID)
}

// courier starts the service that fetches, as its start type and its needs
// allow.
func (r *run) courier() error {
	list, err := state[[]corbelfile.Service](r.v.sys, corbelfile.ServicesPath)
	if err != nil {
		return err
	}
	by := map[string]corbelfile.Service{}
	for _, s := range list {
		by[s.Name] = s
	}
	c := by["courier"]
	switch c.Start {
	case corbelfile.StartOff:
		r.carry("fault", "start refused: start type is off")
		return halt("survey", "courier", codeServiceOff, "service courier cannot be started: its start type is off")
	case corbelfile.StartDemand:
		return halt(
			"survey", "courier", codeStartType, "service courier did not answer: its start type is demand and nobody asked",
		)
	}
	for _, need := range c.Needs {
		if !by[need].Running {
			r.carry("fault", "start refused: service %s is not running", need)
			return halt(
				"survey", "courier", codeServiceNeed, "service courier cannot be started: it needs %s, which is not running", need,
			)
		}
	}
	r.say("survey", "courier", "note", "running")
	return nil
}

func (r *run) policy() error {
	tree, err := settings(r.v.sys)
	if err != nil {
		return err
	}
	if until := tree.Value(corbelfile.PolicyBranch, corbelfile.PolicyPaused); until != "" &&
		(r.offer.Kind == "update" || r.offer.Kind == "upgrade") {
		if t, err := time.Parse(time.DateOnly, until); err == nil && r.clock().Before(t) {
			return halt("survey", "policy", codePaused, "updates are paused until %s", until)
		}
	}
	for _, what := range strings.Split(tree.Value(corbelfile.PolicyBranch, corbelfile.PolicyHeld), "; ") {
		if what != "" && (what == r.offer.Title || what == r.offer.ID) {
			return halt("survey", "policy", codeHeld, "%s may not be begun: policy holds it back until it is released", what)
		}
	}
	block := tree.Value("courier/limits", "block")
	if n, err := strconv.Atoi(block); err != nil || n < 1 || n > 4096 {
		return halt("survey", "policy", codePolicyValue, "courier/limits: block is %q, want 1 to 4096", block)
	}
	if r.offer.Kind == "driver" && tree.Value(corbelfile.PolicyBranch, corbelfile.PolicyDrivers) == "refuse" {
		return halt("survey", "policy", codeDriverRule, "drivers are refused by policy")
	}
	return nil
}

// sound looks whether the file systems are.
func (r *run) sound() error {
	for _, p := range r.v.parts {
		part := block.NewReadRange(r.v.draft, p.Off, p.Length)
		label := layout.Recognise(part).Label
		if label != labelSystem && label != labelBoot {
			continue
		}
		report, err := fat.Check(part)
		if err != nil {
			return halt("survey", "volume", codeRead, "volume %s: %v", label, err)
		}
		if len(report.Findings) > 0 {
			return halt("survey", "volume", codeVolume, "volume %s is marked for a check: %s", label, report.Findings[0].Text)
		}
	}
	r.say("survey", "volume", "note", "2 volumes, none marked for a check")
	return nil
}

// fits holds the machine against what the offer asks.
func (r *run) fits() error {
	const stage = "survey"
	o, p := r.offer, r.m.Plate
	switch {
	case o.Architecture != r.rel.Architecture:
		return halt(
			stage, "fitness", codeArchitecture, "%s is for %s, this machine has %s", o.ID, o.Architecture, r.rel.Architecture,
		)
	case o.SupersededBy != "":
		return halt(stage, "fitness", codeSuperseded, "%s is superseded by %s", o.ID, o.SupersededBy)
	case o.Base != r.rel.Build:
		return halt(stage, "fitness", codeBuild, "%s is for build %d, this machine has %d", o.ID, o.Base, r.rel.Build)
	}
	if o.Kind == "driver" {
		drivers, err := state[[]corbelfile.Driver](r.v.sys, corbelfile.DriversPath)
		if err != nil {
			return err
		}
		for _, d := range drivers {
			if d.Device == o.Device && d.Version > o.Version {
				return halt(
					stage, "fitness", codeDriverOlder, "driver for %s: offered %s is older than %s, which is installed", o.Device,
					o.Version, d.Version,
				)
			}
		}
	}
	f := o.Fit
	if f == nil {
		return nil
	}
	r.say(
		stage, "fitness", "note", "memory %d MiB, disk %d MiB, display %dx%d, model %s", p.Memory>>20, diskSize>>20,
		p.Width, p.Height, p.Model,
	)
	switch {
	case p.Memory < f.Memory:
		return halt(stage, "fitness", codeMemory, "memory is %d MiB, %d MiB are wanted", p.Memory>>20, f.Memory>>20)
	case p.Devices[0].Size < f.Disk:
		return halt(stage, "fitness", codeDiskSize, "disk is %d MiB, %d MiB are wanted", p.Devices[0].Size>>20, f.Disk>>20)
	case p.Width < f.Width || p.Height < f.Height:
		return halt(stage, "fitness", codeDisplay, "display is %dx%d, %dx%d is wanted", p.Width, p.Height, f.Width, f.Height)
	case len(f.Models) > 0 && !slices.Contains(f.Models, p.Model):
		return halt(stage, "fitness", codeModel, "model %s is not supported", p.Model)
	}
	for _, flag := range f.Flags {
		if !slices.Contains(p.Flags, flag) {
			return halt(stage, "fitness", codeProcessor, "processor %s lacks %s", p.Processor, flag)
		}
	}
	return nil
}

// room looks for space on both volumes.
func (r *run) room() error {
	need := int64(corbelfile.RoomForAttempt)
	needBoot := int64(0)
	if f := r.offer.Fit; f != nil {
		need, needBoot = f.Free, f.FreeBoot
	}
	if have := r.v.sys.Free(); have < need {
		return halt(
			"survey", "space", codeSpaceSystem, "system volume has %d KiB free, %d KiB are needed", have>>10, need>>10,
		)
	}
	if have := r.v.boot.Free(); have < needBoot {
		return halt(
			"survey", "space", codeSpaceBoot, "boot volume has %d KiB free, %d KiB are needed", have>>10, needBoot>>10,
		)
	}
	r.say("survey", "space", "note", "enough")
	return nil
}

// surveyMedium looks at the medium and at the disk that the release would go
// to: the first that the firmware offers.
func (r *run) surveyMedium() error {
	const stage = "survey"
	m := r.m.Plate
	if m.Medium == nil {
		return halt(stage, "medium", codeNoSource, "no medium is in the drive")
	}
	if !slices.Contains(m.Medium.Modes, m.Firmware.Mode) {
		return halt(
			stage, "medium", codeMediumMode, "the medium starts in %s mode, this machine in %s mode",
			strings.Join(m.Medium.Modes, " or "), m.Firmware.Mode,
		)
	}
	target := m.Devices[0]
	r.say(stage, "target", "note", "first disk is %s, %s, %d MiB", target.Name, target.Bus, target.Size>>20)
	if target.Name != "disk0" {
		return halt(
			stage, "target", codeTarget, "first disk %s (%s) holds no system of this machine", target.Name, target.Bus,
		)
	}
	if style := r.v.table.Style(); (style == layout.StyleGPT) != (m.Firmware.Mode == "uefi") {
		return halt(stage, "target", codeStyle, "table style %s does not go with %s firmware", style, m.Firmware.Mode)
	}
	raw, err := os.ReadFile(filepath.Join(r.m.Folder, m.Medium.File))
	if err != nil {
		return err
	}
	if r.pack, err = corbelfile.ReadPack(raw); err != nil {
		return halt(stage, "medium", codeMediumDamaged, "medium cannot be read: %v", err)
	}
	if bad := r.pack.Damaged(); bad != "" {
		return halt(stage, "medium", codeMediumDamaged, "medium: payload %s is not what its hash says", bad)
	}
	if r.pack.Offer.Build < r.rel.Build {
		return halt(stage, "medium", codeBuild, "medium is build %d, this machine has %d", r.pack.Offer.Build, r.rel.Build)
	}
	r.offer.Build = r.pack.Offer.Build
	return r.sound()
}
