package debian

import "diorthos/core/system"

// ofCorbel is why the family has no such thing.
const ofCorbel = "the stand-in's alone: "

// Lacks says of each ability why the family's systems do not have it.
func (Adapter) Lacks() map[system.Ability]string {
	return map[system.Ability]string{
		system.HasServices: "what is masked or switched off may be meant so: it is told, and a person decides",
		system.HasDownloads: "its own tools hold each download against its sum and fetch it anew; what stands in their way " +
			"is among the lists of its own state",
		system.HasWorkFolders:  ofCorbel + "what a run leaves is in its records, and is brought to rest by its own tools",
		system.HasCache:        "what is marked or locked there is put right with the lists of its own state",
		system.HasAsking:       ofCorbel + "whoever runs its tools does so with all rights, or is refused at once",
		system.HasPending:      ofCorbel + "packages between two states are brought to rest by its own tools",
		system.HasComponents:   ofCorbel + "files of packages are verified and put back, package by package",
		system.HasPrograms:     "every program is a package: the last run of apt is taken back as a whole",
		system.HasReinstall:    "an installer is started by a person, from a medium that is written and read back here",
		system.HasCleanInstall: "an installer is started by a person, from a medium that is written and read back here",
		system.HasBootPieces: "a machine that starts by UEFI has none; GRUB's code of one that starts by the older " +
			"firmware is put back",
		system.HasSettings: ofCorbel +
			"a package's configuration is text that people write; what is shipped is compared by its package",
		system.HasSettingsEdit: ofCorbel + "there is no store of settings with branches, owners and grants",
		system.HasCheckpoints:  ofCorbel + "the family makes none by itself",
		system.HasStartMode:    ofCorbel + "a minimal start is chosen at the loader's menu, for one start",
		system.HasCutter:       ofCorbel + "the family has no list of work for the next start",
	}
}
