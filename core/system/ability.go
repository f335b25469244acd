package system

import (
	"context"
	"fmt"
	"reflect"

	"diorthos/core/bag"
	"diorthos/core/boot"
	"diorthos/core/store"
	"diorthos/core/upkeep"
)

// A System is one that was opened to be changed. What can be done to it shows in
// the abilities that it implements.
type System interface {
	Family() string
}

// An Ability is something that can be done to a system, by name.
type Ability string

// The abilities. Each is an interface of this package.
const (
	HasServices     Ability = "services"
	HasDownloads    Ability = "downloads"
	HasRoomMaker    Ability = "room on volumes"
	HasWorkFolders  Ability = "work folders"
	HasCache        Ability = "download cache"
	HasAside        Ability = "things moved aside"
	HasOffers       Ability = "offers and drivers"
	HasAsking       Ability = "who asked for an update"
	HasSettings     Ability = "settings as shipped"
	HasSettingsEdit Ability = "settings by name"
	HasPolicy       Ability = "update policy"
	HasPending      Ability = "pending work"
	HasFeatures     Ability = "optional features"
	HasComponents   Ability = "component store"
	HasUpdates      Ability = "updates"
	HasPrograms     Ability = "programs"
	HasReinstall    Ability = "reinstall keeping files"
	HasCleanInstall Ability = "clean install"
	HasCheckpoints  Ability = "checkpoints"
	HasStartMode    Ability = "mode of the next start"
	HasBootPieces   Ability = "boot code and boot sector"
	HasLoaderFiles  Ability = "loader and its configuration"
	HasBootVolume   Ability = "boot volume"
	HasReferences   Ability = "names of volumes that the start goes by"
	HasFirmware     Ability = "firmware state" // of the adapter
	HasSupply       Ability = "components from elsewhere"
	HasPackages     Ability = "packages and upgrades"
	HasStateLists   Ability = "lists of the system's own state"
	HasCutter       Ability = "worklists outside of a machine"
	HasPackageTools Ability = "packages brought to rest"
	HasPayloads     Ability = "files of packages"
	HasBootTools    Ability = "early-boot image and menu made anew"
	HasForesight    Ability = "updates tried on a draft"
	HasHolds        Ability = "releases and updates held back"
	HasLists        Ability = "lists of packages fetched anew"
)

type (
	// Services are what a system starts, and what its release ships.
	Services interface {
		Services() ([]upkeep.Service, error)
		PutServices([]upkeep.Service) error
	}
	// Downloads are files that the update client fetched.
	Downloads interface {
		DamagedDownloads() ([]bag.Download, error)
	}
	// RoomMaker frees volumes of what comes back by itself, or what nothing needs any more. Files of people are
	// never of that.
	RoomMaker interface {
		// Dispensable is what could go, in the order in which it goes.
		Dispensable(context.Context, Place) ([]bag.Download, error)
		MakeRoom(context.Context, Place, ToolOptions) ([]string, error)
		// RoomFor is what the next attempt needs of each volume, and what is free there; where it was said of a path that
		// there is no room (ToolOptions.Said), of that volume too.
		RoomFor(context.Context, Place, ToolOptions) ([]VolumeRoom, error)
	}
	// WorkFolders are left of attempts that did not end.
	WorkFolders interface {
		Leftovers() []string
		MoveAside(name string) (string, error)
	}
	// Aside is what was moved aside, each by the name under which it lies there.
	Aside interface {
		MovedAside() ([]upkeep.Aside, error)
		// PutBack moves it to where it was. What stands there now, if anything,
		// is moved aside in its turn, and named.
		PutBack(name string) (to, overwrote string, err error)
		// FreeAside takes it off the volume for good.
		FreeAside(name string) error
	}
	// Cache is the folder of the downloads.
	Cache interface {
		CacheLocked() bool
		UnlockCache() error
	}
	// Offers are what the machine would install: what is older than what it has can be held back.
	Offers interface {
		HoldOlder(context.Context, ToolOptions) ([]string, error)
	}
	// Asking is by whom the update client was asked to install something.
	Asking interface{ AskAsSystem() ([]string, error) }
	// Settings are held against those that the release ships.
	Settings interface {
		SettingFaults() ([]bag.SettingFault, error)
		MendSetting(bag.SettingFault) error
	}
	// SettingsEditor changes settings as a person wants them. What was there is
	// kept aside, whole and the branch by itself.
	SettingsEditor interface {
		Settings() ([]upkeep.Branch, error)
		KeptSettings() []string
		SetValue(branch, name, value string) (was string, err error)
		SetOwner(branch, owner, grants string) (was string, err error)
		RenameSetting(branch, name, to string) error
		PutBackSettings(branch, from string) (restored string, err error)
		// SettingsAreAsKept says when settings, or one branch, were kept that are
		// like those that are there; from is when, and empty any time before the
		// latest. It returns nothing if they are not.
		SettingsAreAsKept(branch, from string) (at string, err error)
	}
	// Policy is the update client's.
	Policy interface {
		Policy() (map[string]string, error)
		SetPolicy(ctx context.Context, name, value string) (was string, err error)
	}
	// Pending is work for the next start.
	Pending interface {
		Pending() (*bag.Pending, error)
		CutPending(context.Context) (upkeep.Cut, error)
		RevertPending() error
	}
	// Features can be added.
	Features interface {
		PutFeature(context.Context, []store.Source, ToolOptions) ([]string, error)
		FeatureStored(context.Context, ToolOptions) (name string, err error)
	}
	// Components are the component store.
	Components interface{ Components() store.Writer }
	// StateLists are the files in which the system keeps what it knows of itself.
	StateLists interface {
		// StateFaults are those that are missing, cannot be read or contradict the
		// others.
		StateFaults() ([]bag.StateFault, error)
		// MendState puts one right, from what is kept, shipped or known; what was
		// there is moved aside. It says from what.
		MendState(context.Context, []store.Source, bag.StateFault) (string, error)
		// StateLeft are those that nothing here puts right: they take a person.
		StateLeft() []bag.StateFault
	}
	// Updates can be taken away again.
	Updates interface {
		// RemoveLatest brings back what was there before the latest one, and says what it did; nothing where that is
		// there already.
		RemoveLatest(context.Context, ToolOptions) ([]string, error)
		// LatestRemoved says why what was there before the latest one is not there again.
		LatestRemoved(context.Context) (saw string, err error)
	}
	// Programs of users can be taken away.
	Programs interface{ RemoveProgram() (string, error) }
	// Reinstall lays the release out anew and keeps what is the users'.
	Reinstall interface {
		Components
		Reinstall(context.Context, []store.Source) ([]string, error)
	}
	// CleanInstall lays the release out anew and keeps nothing.
	CleanInstall interface {
		Components
		Settings
		InstallClean(context.Context, []store.Source) ([]string, error)
	}
	// Checkpoints can be returned to.
	Checkpoints interface{ ReturnToCheckpoint() (string, error) }
	// StartMode is how the next start goes: normal or minimal.
	StartMode interface {
		SetMode(mode string) (was string, err error)
	}
	// BootPieces are written from what the machine has of them.
	BootPieces interface {
		PutBootCode() error
		PutBootSector() error
		BootPiece(kind string) error
	}
	// LoaderFiles are put onto the boot volume, from what the machine has of them.
	LoaderFiles interface {
		PutLoader() error
		PutBootStore() error
		BootPiece(kind string) error
	}
	// References are names of volumes by which a system starts.
	References interface {
		MendMounts() ([]string, error)
		MendRoot() ([]string, error)
		BootPiece(kind string) error
	}
	// PackageTools bring packages to rest by the system's own tools.
	PackageTools interface {
		// FinishPackages completes what a run began, or takes back what it added.
		FinishPackages(context.Context, ToolOptions) ([]string, error)
		// ClearWay puts right what is named where it was said why the attempt failed, and completes what was begun; what
		// cannot be completed stays.
		ClearWay(context.Context, ToolOptions) ([]string, error)
		// PackagesAtRest says what keeps the next run from being begun.
		PackagesAtRest(context.Context) error
		// UpgradePackages brings all packages to what the sources offer; AllNew says what is not.
		UpgradePackages(context.Context, ToolOptions) ([]string, error)
		AllNew(context.Context) error
	}
	// Payloads are the files of packages.
	Payloads interface {
		VerifyPayloads(ctx context.Context, workers int, progress func(done, of int)) (*store.Verification, error)
		RestorePayloads(context.Context, []store.Source, ToolOptions) ([]string, error)
	}
	// BootTools make anew what a kernel is started with, by the system's own tools.
	BootTools interface {
		RemakeEarlyImages(context.Context, ToolOptions) ([]string, error)
		RemakeMenu(context.Context, ToolOptions) ([]string, error)
		// InstallLoader puts the loader back where all of it is gone, with a menu.
		InstallLoader(context.Context, ToolOptions) ([]string, error)
		// Chain is that by which the machine starts, as it stands now.
		Chain() (boot.Chain, error)
	}
	// PackageLists are what the sources offer.
	PackageLists interface {
		ListsAnew(context.Context, ListOptions) ([]string, error)
		// ListsSound says why the system's own tools cannot work with them.
		ListsSound(context.Context) error
	}
	// Holds keep a release, an update or a package from being begun. Whether anything changed is told.
	Holds interface {
		Held() ([]string, error)
		Hold(ctx context.Context, what string) (bool, error)
		Release(ctx context.Context, what string) (bool, error)
		// Knows reports whether anything is called so that the system has, or was offered.
		Knows(what string) bool
	}
	// BootVolume is the partition from which the system is started.
	BootVolume interface{ BootPartition() int }
)

// abilities tell which interface stands for each, and whether the adapter has it
// or a system that was opened.
var abilities = []struct {
	ability   Ability
	is        reflect.Type
	ofAdapter bool
}{
	{HasServices, reflect.TypeFor[Services](), false}, {HasDownloads, reflect.TypeFor[Downloads](), false},
	{HasRoomMaker, reflect.TypeFor[RoomMaker](), false}, {HasWorkFolders, reflect.TypeFor[WorkFolders](), false},
	{HasCache, reflect.TypeFor[Cache](), false}, {HasAside, reflect.TypeFor[Aside](), false},
	{HasOffers, reflect.TypeFor[Offers](), false}, {HasAsking, reflect.TypeFor[Asking](), false},
	{HasSettings, reflect.TypeFor[Settings](), false},
	{HasSettingsEdit, reflect.TypeFor[SettingsEditor](), false}, {HasPolicy, reflect.TypeFor[Policy](), false},
	{HasPending, reflect.TypeFor[Pending](), false}, {HasFeatures, reflect.TypeFor[Features](), false},
	{HasComponents, reflect.TypeFor[Components](), false}, {HasUpdates, reflect.TypeFor[Updates](), false},
	{HasPrograms, reflect.TypeFor[Programs](), false}, {HasReinstall, reflect.TypeFor[Reinstall](), false},
	{HasCleanInstall, reflect.TypeFor[CleanInstall](), false}, {HasCheckpoints, reflect.TypeFor[Checkpoints](), false},
	{HasStartMode, reflect.TypeFor[StartMode](), false}, {HasBootPieces, reflect.TypeFor[BootPieces](), false},
	{HasLoaderFiles, reflect.TypeFor[LoaderFiles](), false},
	{HasReferences, reflect.TypeFor[References](), false},
	{HasPackageTools, reflect.TypeFor[PackageTools](), false}, {HasPayloads, reflect.TypeFor[Payloads](), false},
	{HasBootTools, reflect.TypeFor[BootTools](), false}, {HasForesight, reflect.TypeFor[Foreseer](), false},
	{HasLists, reflect.TypeFor[PackageLists](), false},
	{HasHolds, reflect.TypeFor[Holds](), false},
	{HasBootVolume, reflect.TypeFor[BootVolume](), false},
	{HasStateLists, reflect.TypeFor[StateLists](), false},
	{HasFirmware, reflect.TypeFor[FirmwareHolder](), true}, {HasSupply, reflect.TypeFor[Supplier](), true},
	{HasPackages, reflect.TypeFor[Packages](), true}, {HasCutter, reflect.TypeFor[Cutter](), true},
}

// Abilities lists all that there are.
func Abilities() []Ability {
	list := make([]Ability, len(abilities))
	for i, a := range abilities {
		list[i] = a.ability
	}
	return list
}

// Has reports whether an adapter, with a system that it opened, has an ability.
// The system may be nil where the family's systems are only read.
func Has(a Adapter, s System, ability Ability) bool {
	for _, t := range abilities {
		if t.ability != ability {
			continue
		}
		if t.ofAdapter {
			return reflect.TypeOf(a).Implements(t.is)
		}
		return s != nil && reflect.TypeOf(s).Implements(t.is)
	}
	return false
}

// Lack is why the systems of a family do not have the ability that the interface
// T stands for; empty where they do.
func Lack[T any](a Adapter) string {
	for _, t := range abilities {
		if t.is == reflect.TypeFor[T]() {
			return a.Lacks()[t.ability]
		}
	}
	return ""
}

// An Opened is one of the systems on a disk.
type Opened struct {
	Partition int
	Title     string // in a technician's words
	System    System
}

// String names it.
func (o Opened) String() string {
	if o.Partition == 0 { // its files alone
		return o.Title
	}
	return fmt.Sprintf("%s on partition %d", o.Title, o.Partition)
}
