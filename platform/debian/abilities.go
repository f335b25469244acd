package debian

import "diorthos/core/system"

const (
	// onTree is why what lies in a tree of files is not changed yet.
	onTree = "no such change is made inside it so far"
	// ofCorbel is why the family has no such thing.
	ofCorbel = "the stand-in's alone: "
)

// Lacks says of each ability why the family's systems do not have it.
func (Adapter) Lacks() map[system.Ability]string {
	return map[system.Ability]string{
		system.HasServices: onTree, system.HasDownloads: onTree, system.HasEarlyImages: onTree,
		system.HasWorkFolders: onTree, system.HasCache: onTree,
		system.HasAsking:  ofCorbel + "whoever runs its tools does so with all rights, or is refused at once",
		system.HasPending: onTree, system.HasComponents: onTree, system.HasUpdates: onTree,
		system.HasPrograms: onTree, system.HasReinstall: onTree, system.HasCleanInstall: onTree,
		system.HasBootPieces: "a machine that starts by UEFI has none; GRUB's code of one that starts by the older " +
			"firmware is put back",
		system.HasSettings: ofCorbel +
			"a package's configuration is text that people write; what is shipped is compared by its package",
		system.HasSettingsEdit: ofCorbel + "there is no store of settings with branches, owners and grants",
		system.HasCheckpoints:  ofCorbel + "the family makes none by itself",
		system.HasStartMode:    ofCorbel + "a minimal start is chosen at the loader's menu, for one start",
		system.HasFirmware: "of a disk nothing is known of the firmware; " +
			"a running machine's variables are only read so far",
		system.HasCutter: ofCorbel + "the family has no list of work for the next start",
	}
}
