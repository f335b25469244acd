package corbelfile

// Where things lie on the system volume.
const (
	ReleasePath     = "corbel/release.json"
	KernelPath      = "corbel/system/kernel.bin"
	IndexPath       = "corbel/store/index"
	ManifestFolder  = "corbel/store/manifests"
	PayloadFolder   = "corbel/store/payloads"
	SystemFolder    = "corbel/system"
	WorklistPath    = "corbel/work/list"
	TransactionPath = "corbel/work/transaction.json"
	ServicesPath    = "corbel/services.json"
	ServicesShipped = "corbel/system/services.shipped"
	SettingsPath    = "corbel/settings.tree"
	SettingsShipped = "corbel/system/settings.shipped"
	OffersPath      = "corbel/update/offers.json"
	UpdateFolder    = "corbel/update"
	CacheFolder     = "corbel/update/cache"
	WorkPrefix      = "work-" // folders of attempts that did not end, below UpdateFolder
	HistoryPath     = "corbel/update/history.json"
	FeaturesPath    = "corbel/features.json"
	DriversPath     = "corbel/drivers.json"
	ProgramsPath    = "corbel/programs.json"
	CheckpointRoot  = "corbel/checkpoints"
	LogFolder       = "corbel/log"
	AsideFolder     = "corbel/aside"            // what was moved out of the way
	AsideIndex      = "corbel/aside/index.json" // where each of it was
	UsersFolder     = "users"
)

// Where things lie on the boot volume: the EFI system partition, or the active
// partition of a machine with the older firmware.
const (
	LoaderUEFI    = "EFI/corbel/keystone.efi"
	BootStoreUEFI = "EFI/corbel/boot.store"
	EarlyUEFI     = "EFI/corbel/early"
	LoaderBIOS    = "keystone.bin"
	BootStoreBIOS = "boot.store"
	EarlyBIOS     = "early"
)

// Loader, BootStore and Early are the paths for a firmware mode.
func Loader(mode string) string { return pick(mode, LoaderUEFI, LoaderBIOS) }

// BootStore is where the loader finds what to start.
func BootStore(mode string) string { return pick(mode, BootStoreUEFI, BootStoreBIOS) }

// Early is the folder with the early-boot images of the releases.
func Early(mode string) string { return pick(mode, EarlyUEFI, EarlyBIOS) }

func pick(mode, uefi, bios string) string {
	if mode == "uefi" {
		return uefi
	}
	return bios
}

// Files of the boot component, by what they are for. They lie in the store, so
// that a machine can put them back by itself.
const (
	BootComponent  = "corbel-boot"
	LoaderFileUEFI = "boot/keystone.efi"
	LoaderFileBIOS = "boot/keystone.bin"
	BootCodeFile   = "boot/sector0.bin"   // at most 440 bytes for sector 0 of the disk
	BootSectorFile = "boot/partition.bin" // at most 420 bytes for the boot sector of the active partition
)

// Where the boot code goes, in bytes from the start of its sector.
const (
	BootCodeSize   = 440
	BootSectorAt   = 90
	BootSectorSize = 420
)
