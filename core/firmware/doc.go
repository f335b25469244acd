// Package firmware is what starts a machine: its mode, its boot entries in
// their order, and what goes with them beside the disk: clock and network.
//
//	mode, err := firmware.ParseMode("uefi")
//	state, err := keeper.ReadFirmware(device)
//
// The order and the form of boot entries follow the UEFI specification, section
// 3.1 (boot manager) and 3.3 (globally defined variables).
package firmware
