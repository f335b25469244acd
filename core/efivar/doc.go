// Package efivar reads and writes the variables of UEFI firmware that say what it starts: Boot####, BootOrder,
// BootNext.
//
//	store, err := efivar.Open(device)      // the variable store of a virtual machine, as OVMF keeps it
//	entries, order := store.Boot()
//
// Variables come from a variable store (UEFI Platform Initialization Specification, volume 3, "Variable Services", in a
// firmware volume), or one by one as efivarfs shows them: four bytes of attributes, then the data. What an entry holds
// is an EFI_LOAD_OPTION (UEFI Specification, section 3.1.3) with a device path (section 10).
package efivar
