package corbel

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"time"

	"diorthos/core/fat"
	"diorthos/platform/corbelfile"
)

// fetch brings the package into the cache, and the clock to the network's time.
func (r *run) fetch() error {
	const stage = "fetch"
	if r.clean {
		return nil
	}
	if n := r.m.Plate.Network; n.Up && n.TimeSync && r.offset.Abs() > time.Minute {
		r.say(stage, "time", "warn", "network time: clock set by %d s", -int64(r.offset/time.Second))
		r.offset, r.moved = 0, true
	}
	if r.inStore() {
		r.say(stage, "source", "note", "payload of %s is on this machine", r.offer.ID)
		return nil
	}
	if err := r.featureSource(); err != nil || r.pack != nil {
		return err
	}
	if info, err := fs.Stat(r.v.sys, corbelfile.CacheFolder); err != nil || !info.IsDir() || info.Mode()&0o200 == 0 {
		return halt(stage, "cache", codeCacheWrite, "cache %s cannot be written", corbelfile.CacheFolder)
	}
	at := path.Join(corbelfile.CacheFolder, r.offer.ID+".pack")
	raw, err := fs.ReadFile(r.v.sys, at)
	if errors.Is(err, fs.ErrNotExist) {
		raw, err = r.download()
		if err == nil {
			err = r.v.sys.WriteFile(at, raw)
		}
	} else if err == nil {
		r.say(stage, "cache", "note", "%s is in the cache, %d bytes", r.offer.ID, len(raw))
	}
	if err != nil {
		return asRead(stage, "cache", err)
	}
	if got := corbelfile.PackDigest(raw); got != r.offer.Digest {
		r.carry("fault", "%s.pack has hash %s, the catalogue says %s", r.offer.ID, got, r.offer.Digest)
		return halt(stage, "digest", codeCacheDigest, "package %s in the cache is not what the catalogue says", r.offer.ID)
	}
	r.pack, err = corbelfile.ReadPack(raw)
	if err != nil {
		return halt(stage, "digest", codeCacheDigest, "package %s in the cache: %v", r.offer.ID, err)
	}
	return r.v.sys.Mkdir(r.workFolder())
}

func (r *run) workFolder() string {
	return path.Join(corbelfile.UpdateFolder, corbelfile.WorkPrefix+r.offer.ID)
}

// asRead keeps an error of the volume as what a person would be told.
func asRead(stage, operation string, err error) error {
	var s *stop
	if errors.As(err, &s) {
		return err
	}
	if errors.Is(err, fat.ErrFull) {
		return halt(stage, operation, codeSpaceSystem, "system volume is full: %v", err)
	}
	return halt(stage, operation, codeRead, "%v", err)
}

// inStore reports whether a feature's payload has been put on the machine.
func (r *run) inStore() bool {
	if r.offer.Kind != "feature" {
		return false
	}
	names, _ := fs.Glob(r.v.sys, path.Join(corbelfile.ManifestFolder, FeatureComponent+"-*")) // the pattern is right
	for _, name := range names {
		raw, err := fs.ReadFile(r.v.sys, name)
		var m corbelfile.Manifest
		if err != nil || corbelfile.Unseal(corbelfile.KindManifest, raw, &m) != nil || m.Build != r.rel.Build {
			continue
		}
		r.pack = &corbelfile.Pack{Offer: r.offer, Manifests: []corbelfile.Manifest{m}, Payloads: map[string][]byte{}}
		return true
	}
	return false
}

// featureSource takes a feature from the medium where the policy wants a local
// source.
func (r *run) featureSource() error {
	if r.offer.Kind != "feature" {
		return nil
	}
	tree, err := settings(r.v.sys)
	if err != nil {
		return err
	}
	if tree.Value(corbelfile.PolicyBranch, corbelfile.PolicyFeature) != "local" {
		return nil
	}
	if r.m.Plate.Medium == nil {
		return halt(
			"fetch", "source", codeNoSource,
			"payload of %s is not on this machine, and policy forbids the vendor as its source", FeatureComponent,
		)
	}
	raw, err := os.ReadFile(filepath.Join(r.m.Folder, r.m.Plate.Medium.File))
	if err != nil {
		return err
	}
	p, err := corbelfile.ReadPack(raw)
	if err != nil {
		return halt("fetch", "source", codeMediumDamaged, "medium: %v", err)
	}
	if p.Offer.Build != r.rel.Build {
		return halt(
			"fetch", "source", codeSourceBuild, "source is of build %d, this machine has %d", p.Offer.Build, r.rel.Build,
		)
	}
	i := slices.IndexFunc(p.Manifests, func(m corbelfile.Manifest) bool { return m.Name == FeatureComponent })
	if i < 0 {
		return halt("fetch", "source", codeNoSource, "medium does not hold %s", FeatureComponent)
	}
	r.pack = &corbelfile.Pack{
		Offer:       r.offer,
		Manifests:   p.Manifests[i : i+1],
		Payloads:    p.Payloads,
		Certificate: p.Certificate,
	}
	return nil
}

// download asks the vendor, as policy and network allow.
func (r *run) download() ([]byte, error) {
	const stage = "fetch"
	tree, err := settings(r.v.sys)
	if err != nil {
		return nil, err
	}
	n := r.m.Plate.Network
	switch {
	case tree.Value(corbelfile.PolicyBranch, corbelfile.PolicySource) == "none":
		return nil, halt(stage, "source", codePolicyValue, "policy names no source: source is none")
	case !n.Up:
		r.carry("fault", "no route to the vendor")
		return nil, halt(stage, "network", codeNoLink, "no link is up")
	case n.Metered && tree.Value(corbelfile.PolicyBranch, corbelfile.PolicyMetered) != "allow":
		return nil, halt(stage, "network", codeMetered, "the network is metered, and policy refuses downloads on it")
	}
	if err := r.req.Link.state(r.ctx); err != nil {
		if errors.Is(err, errDown) {
			return nil, halt(stage, "vendor", codeVendorDown, "the vendor says that packages are down")
		}
		return nil, byVendor(err)
	}
	raw, err := r.req.Link.get(r.ctx, "/packages/"+r.offer.ID)
	if err != nil {
		return nil, byVendor(err)
	}
	const blockSize = 2048
	blocks := len(raw)/blockSize + 1
	for try := 1; try <= 3; try++ {
		r.pass(time.Duration(blocks) * 80 * time.Millisecond)
		if n.LossEvery == 0 || blocks < n.LossEvery {
			r.carry("note", "%s fetched, %d bytes", r.offer.ID, len(raw))
			return raw, nil
		}
		r.carry("warn", "connection lost after block %d of %d, try %d (0x20110007)", n.LossEvery, blocks, try)
	}
	return nil, halt(stage, "network", codeLost, "connection to the vendor was lost three times")
}

// byVendor says what the courier says of an answer that is none: what fails there
// is not this machine's.
func byVendor(err error) error {
	var status *statusError
	if errors.As(err, &status) && status.code >= 500 {
		return halt("fetch", "vendor", codeVendorDown, "%v", err)
	}
	return halt("fetch", "network", codeLost, "connection to the vendor was lost: %v", err)
}

// lay checks trust and store, writes what is new into the store, and the
// worklist for the next start.
func (r *run) lay() error {
	const stage = "lay"
	if len(r.pack.Certificate) > 0 {
		err := r.pack.Verify(r.clock())
		switch {
		case errors.Is(err, corbelfile.ErrExpired):
			return halt(
				stage, "trust", codeExpired, "package %s: %v; the clock says %s", r.offer.ID, err, r.clock().Format(time.DateOnly),
			)
		case errors.Is(err, corbelfile.ErrNotYetValid):
			return halt(
				stage, "trust", codeNotYetValid, "package %s: %v; the clock says %s", r.offer.ID, err,
				r.clock().Format(time.DateOnly),
			)
		case err != nil && r.offer.Kind != "feature":
			return halt(stage, "trust", codeSignature, "package %s: %v", r.offer.ID, err)
		}
		r.say(stage, "trust", "note", "signature of %s is good", r.offer.ID)
	}
	if !r.clean { // a medium brings everything itself
		if err := r.checkStore(); err != nil {
			return err
		}
	}
	back, err := r.checkpoint()
	if err != nil {
		return asRead(stage, "checkpoint", err)
	}
	ops, err := r.place()
	if err != nil {
		return asRead(stage, "place", err)
	}
	var list bytes.Buffer
	if err := corbelfile.WriteWorklist(&list, r.offer.ID, ops); err != nil {
		return err
	}
	if err := put(r.v.sys, corbelfile.WorklistPath, list.Bytes()); err != nil {
		return asRead(stage, "worklist", err)
	}
	r.say(stage, "worklist", "note", "%d operations for the next start", len(ops))
	return putState(r.v.sys, corbelfile.TransactionPath, corbelfile.Transaction{
		ID:       r.offer.ID,
		Build:    r.offer.Build,
		Was:      r.rel.Build,
		Complete: true,
		Return:   back,
	})
}

// checkStore verifies every component that is installed.
func (r *run) checkStore() error {
	raw, err := fs.ReadFile(r.v.sys, corbelfile.IndexPath)
	if err != nil {
		return asRead("lay", "store", err)
	}
	var index corbelfile.Index
	if err := corbelfile.Unseal(corbelfile.KindIndex, raw, &index); err != nil {
		return halt("lay", "store", codeManifest, "index: %v", err)
	}
	have := map[string]bool{}
	for _, c := range index.Components {
		have[c.Name] = true
	}
	for _, m := range r.pack.Manifests {
		have[m.Name] = true
	}
	for _, c := range index.Components {
		if err := r.checkComponent(c, have); err != nil {
			return err
		}
	}
	r.keep("verify", "note", "%d components verified", len(index.Components))
	return nil
}

func (r *run) checkComponent(c corbelfile.Component, have map[string]bool) error {
	const stage, operation = "lay", "store"
	raw, err := fs.ReadFile(r.v.sys, manifestPath(c.Name, c.Version))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return asRead(stage, operation, err)
	}
	var m corbelfile.Manifest
	if err == nil {
		err = corbelfile.Unseal(corbelfile.KindManifest, raw, &m)
	}
	if err != nil || corbelfile.Hash(raw) != c.Manifest {
		r.keep("verify", "fault", "manifest of %s %s is damaged or gone", c.Name, c.Version)
		return halt(stage, operation, codeManifest, "manifest of %s %s is damaged or gone", c.Name, c.Version)
	}
	for _, need := range m.Needs {
		if !have[need] {
			r.keep("verify", "fault", "%s needs %s, which is not in the index", c.Name, need)
			return halt(stage, operation, codeDependency, "%s needs %s, which is not installed", c.Name, need)
		}
	}
	for _, f := range m.Files {
		data, err := fs.ReadFile(r.v.sys, payloadPath(f.Payload))
		if errors.Is(err, fs.ErrNotExist) {
			r.keep("verify", "fault", "payload %s of %s is missing", f.Payload, c.Name)
			return halt(stage, operation, codePayloadGone, "payload %s of %s is missing from the store", f.Payload, c.Name)
		}
		if err != nil {
			return asRead(stage, operation, err)
		}
		if corbelfile.Hash(data) != f.Payload {
			r.keep("verify", "fault", "payload %s of %s has hash %s", f.Payload, c.Name, corbelfile.Hash(data))
			return halt(stage, operation, codePayloadAltered, "payload %s of %s is not what its hash says", f.Payload, c.Name)
		}
		if !f.Protected {
			continue
		}
		own, err := fs.ReadFile(r.v.sys, path.Join(corbelfile.SystemFolder, f.Path))
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return asRead(stage, operation, err)
		}
		if !bytes.Equal(own, data) {
			r.keep("verify", "fault", "protected file %s of %s is not like its payload", f.Path, c.Name)
			return halt(stage, operation, codeProtected, "protected file %s of %s was altered", f.Path, c.Name)
		}
	}
	return nil
}

// kept are the state files of a checkpoint.
var kept = []string{
	corbelfile.ReleasePath, corbelfile.IndexPath, corbelfile.ServicesPath, corbelfile.SettingsPath,
	corbelfile.FeaturesPath, corbelfile.DriversPath, corbelfile.ProgramsPath,
}

func (r *run) checkpoint() (string, error) {
	id := r.clock().UTC().Format("20060102-150405")
	folder := path.Join(corbelfile.CheckpointRoot, id)
	if err := r.v.sys.Mkdir(folder); err != nil {
		return "", err
	}
	for i, name := range kept {
		raw, err := fs.ReadFile(r.v.sys, name)
		if err != nil {
			return "", err
		}
		if err := r.v.sys.WriteFile(path.Join(folder, fmt.Sprint(i)), raw); err != nil {
			return "", err
		}
	}
	r.say("lay", "checkpoint", "note", "checkpoint %s", id)
	return id, putState(r.v.sys, path.Join(folder, "checkpoint.json"), corbelfile.Checkpoint{
		ID:    id,
		When:  r.clock().UTC().Truncate(time.Second),
		Why:   "before " + r.offer.ID,
		Build: r.rel.Build,
		Files: kept,
	})
}

// place writes manifests and payloads into the store and lists what the next
// start has to do.
func (r *run) place() (ops []corbelfile.Operation, err error) {
	for _, m := range r.pack.Manifests {
		if r.clean && m.Name == FeatureComponent {
			continue // on the medium, and not part of the release
		}
		raw := corbelfile.Seal(corbelfile.KindManifest, m)
		if err := r.v.sys.WriteFile(manifestPath(m.Name, m.Version), raw); err != nil {
			return nil, err
		}
		for _, f := range m.Files {
			if data, ok := r.pack.Payloads[f.Payload]; ok {
				if err := r.v.sys.WriteFile(payloadPath(f.Payload), data); err != nil {
					return nil, err
				}
			}
			ops = append(ops, corbelfile.Operation{
				Number:    len(ops) + 1,
				Do:        "place",
				Component: m.Name,
				Version:   m.Version,
				Payload:   f.Payload,
				At:        f.Path,
			})
		}
		ops = append(ops, corbelfile.Operation{Number: len(ops) + 1, Do: "switch", Component: m.Name, Version: m.Version})
		r.say("lay", "place", "note", "%s %s laid out", m.Name, m.Version)
	}
	return ops, nil
}

// wake restarts the machine: that start does the work, and ends there. What the
// release asks of the machine shows when it is first started whole.
func (r *run) wake() error {
	r.say("wake", "restart", "note", "restarting")
	r.pass(40 * time.Second)
	if _, err := r.m.startToWork(r.v); err != nil {
		return err
	}
	r.say("wake", "worklist", "note", "all operations done")
	return nil
}

// settle writes down what was done.
func (r *run) settle() error {
	const stage = "settle"
	tree, err := settings(r.v.sys)
	if err != nil {
		return halt(stage, "settings", codeBranchDamaged, "settings: %v", err)
	}
	b := tree.Find(corbelfile.StageBranch)
	switch {
	case b == nil || b.Damaged != "":
		return halt(stage, "settings", codeBranchDamaged, "branch %s is damaged", corbelfile.StageBranch)
	case b.Owner != corbelfile.OwnerSystem || b.Grants != corbelfile.GrantsShipped:
		return halt(
			stage, "settings", codeBranchOwner, "branch %s cannot be written: it belongs to %s", corbelfile.StageBranch,
			b.Owner,
		)
	}
	b.Values["level"] = fmt.Sprint(r.offer.Build)
	if err := put(r.v.sys, corbelfile.SettingsPath, tree.Bytes()); err != nil {
		return err
	}
	if err := r.record(); err != nil {
		return err
	}
	if _, err := fs.Stat(r.v.sys, r.workFolder()); err == nil {
		return r.v.sys.Remove(r.workFolder())
	}
	return nil
}

// record adds to the history, and takes the offer off the list.
func (r *run) record() error {
	list, err := state[[]corbelfile.History](r.v.sys, corbelfile.HistoryPath)
	if err != nil {
		return err
	}
	before := []corbelfile.Component{}
	for _, m := range r.pack.Manifests {
		if m.Supersedes == "" {
			continue
		}
		raw, err := fs.ReadFile(r.v.sys, manifestPath(m.Name, m.Supersedes))
		if err != nil {
			return err
		}
		before = append(before, corbelfile.Component{Name: m.Name, Version: m.Supersedes, Manifest: corbelfile.Hash(raw)})
	}
	list = append(list, corbelfile.History{
		When:    r.clock().UTC().Truncate(time.Second),
		Kind:    r.offer.Kind,
		ID:      r.offer.ID,
		Title:   r.offer.Title,
		Build:   r.offer.Build,
		Was:     r.rel.Build,
		Changed: before,
	})
	if err := putState(r.v.sys, corbelfile.HistoryPath, list); err != nil {
		return err
	}
	if err := r.registered(); err != nil || r.clean {
		return err
	}
	offers, err := state[[]corbelfile.Offer](r.v.sys, corbelfile.OffersPath)
	if err != nil {
		return err
	}
	offers = slices.DeleteFunc(offers, func(o corbelfile.Offer) bool { return o.ID == r.offer.ID })
	return putState(r.v.sys, corbelfile.OffersPath, offers)
}

// registered notes a driver or a feature that is there now.
func (r *run) registered() error {
	switch r.offer.Kind {
	case "driver":
		list, err := state[[]corbelfile.Driver](r.v.sys, corbelfile.DriversPath)
		if err != nil {
			return err
		}
		for i := range list {
			if list[i].Device == r.offer.Device {
				list[i].Version = r.offer.Version
			}
		}
		return putState(r.v.sys, corbelfile.DriversPath, list)
	case "feature":
		list, err := state[[]corbelfile.Feature](r.v.sys, corbelfile.FeaturesPath)
		if err != nil {
			return err
		}
		for i := range list {
			list[i].On = list[i].On || list[i].Name == r.offer.Feature
		}
		return putState(r.v.sys, corbelfile.FeaturesPath, list)
	}
	return nil
}
