package corbel

import "fmt"

// A stop ends an attempt or a start. Its code is of Corbel's own family: class
// in bits 28 to 31, part in bits 16 to 27, number below.
type stop struct {
	stage     string
	operation string
	code      uint32
	text      string
}

func (s *stop) Error() string { return fmt.Sprintf("%s (0x%08x)", s.text, s.code) }

func halt(stage, operation string, code uint32, format string, a ...any) error {
	return &stop{stage, operation, code, fmt.Sprintf(format, a...)}
}

// Codes of what stops an attempt or a start. docs/formats/corbel.md lists them
// with their meaning.
const (
	codeRights       = 0x40100001
	codeMemory       = 0x40100002
	codeProcessor    = 0x40100003
	codeDisplay      = 0x40100004
	codeDiskSize     = 0x40100005
	codeModel        = 0x40100006
	codeArchitecture = 0x40100007
	codeBuild        = 0x40100008
	codeSuperseded   = 0x40100009
	codeSpaceSystem  = 0x4010000a
	codeSpaceBoot    = 0x4010000b
	codeRestartOwed  = 0x4010000c
	codePaused       = 0x4010000d
	codeLeftover     = 0x4010000e
	codeHalfDone     = 0x4010000f
	codeTarget       = 0x40100010
	codeStyle        = 0x40100011
	codeVolume       = 0x40100012
	codeRead         = 0x40100013
	codeState        = 0x40100014
	codeHeld         = 0x40100015

	codeServiceOff  = 0x40110001
	codeServiceNeed = 0x40110002
	codeStartType   = 0x40110003
	codeCacheWrite  = 0x40110004
	codeCacheDigest = 0x40110005
	codeMetered     = 0x40110006
	codeLost        = 0x40110007
	codeNoLink      = 0x40110008
	codeVendorDown  = 0x40110009
	codePolicyValue = 0x4011000a
	codeDriverOlder = 0x4011000b
	codeDriverRule  = 0x4011000c
	codeNoSource    = 0x4011000d
	codeSourceBuild = 0x4011000e

	codePayloadGone    = 0x40120001
	codePayloadAltered = 0x40120002
	codeManifest       = 0x40120003
	codeProtected      = 0x40120004
	codeDependency     = 0x40120005

	codeGeneral  = 0x40130001 // "could not be completed": the last words of every failure
	codeRollback = 0x40130009

	codePendingGone  = 0x40140001
	codePendingShort = 0x40140002

	codeBranchOwner   = 0x40150001
	codeBranchDamaged = 0x40150002

	codeExpired     = 0x40160001
	codeNotYetValid = 0x40160002
	codeSignature   = 0x40160003

	codeNoEntry       = 0x40170001
	codeNoLoader      = 0x40170002
	codeBootStore     = 0x40170003
	codeNoVolume      = 0x40170004
	codeNoKernel      = 0x40170005
	codeWants         = 0x40170006
	codeStartService  = 0x40170007
	codeBootCode      = 0x40170008
	codeBootSector    = 0x40170009
	codeNoActive      = 0x4017000a
	codeMediumMode    = 0x4017000b
	codeMediumDamaged = 0x4017000c
	codeNoSystem      = 0x4017000e
	codeTable         = 0x4017000d
)
