package boot

// The faults that a link can have.
const (
	TableDamaged       Fault = "table-damaged"
	StyleAgainst       Fault = "style-against-firmware"
	ESPMissing         Fault = "esp-missing"
	ESPType            Fault = "esp-of-another-type"
	BootOrder          Fault = "boot-order"
	EntriesStale       Fault = "boot-entries-stale"
	EntriesMissing     Fault = "boot-entries-missing"
	CodeDamaged        Fault = "boot-code-damaged"
	CodeUnreadable     Fault = "boot-code-unreadable"
	TableNotSigned     Fault = "table-not-signed"
	ActiveFlag         Fault = "active-flag"
	SectorDamaged      Fault = "boot-sector-damaged"
	SectorUnreadable   Fault = "boot-sector-unreadable"
	VolumeUnreadable   Fault = "boot-volume-unreadable"
	LoaderMissing      Fault = "loader-missing"
	LoaderAltered      Fault = "loader-altered"
	StoreDamaged       Fault = "boot-store-damaged"
	MenuMissing        Fault = "menu-missing"
	StoreOtherVolume   Fault = "boot-store-other-volume"
	CoreImageDamaged   Fault = "core-image-damaged"
	CoreOtherVolume    Fault = "core-image-other-volume"
	ModulesMissing     Fault = "loader-modules-missing"
	KernelMissing      Fault = "kernel-missing"
	KernelAltered      Fault = "kernel-altered"
	EarlyImageMissing  Fault = "early-image-missing"
	RootMissing        Fault = "root-volume-missing"
	RootCut            Fault = "root-volume-cut-off"
	InitMissing        Fault = "init-missing"
	MountMissing       Fault = "mount-missing"
	PendingUnreadable  Fault = "pending-unreadable"
	PendingHalfDone    Fault = "pending-half-done"
	PendingMissing     Fault = "pending-component-gone"
	ComponentWants     Fault = "component-wants"
	ServicesUnreadable Fault = "services-unreadable"
	ServiceOfProgram   Fault = "service-of-program"
	ComponentsUnknown  Fault = "components-unreadable"
)

// Faults lists those that there are.
func Faults() []Fault {
	return []Fault{
		TableDamaged, TableNotSigned, StyleAgainst, ESPMissing, ESPType, BootOrder, EntriesStale, EntriesMissing,
		CodeDamaged, CodeUnreadable,
		ActiveFlag, SectorDamaged, SectorUnreadable, VolumeUnreadable, LoaderMissing, LoaderAltered, StoreDamaged,
		MenuMissing, StoreOtherVolume, CoreImageDamaged, CoreOtherVolume, ModulesMissing, KernelMissing, KernelAltered,
		EarlyImageMissing, RootMissing, RootCut, InitMissing, MountMissing, PendingUnreadable, PendingHalfDone,
		PendingMissing, ComponentWants, ServicesUnreadable, ServiceOfProgram, ComponentsUnknown,
	}
}
