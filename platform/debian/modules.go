package debian

import (
	"bytes"
	"debug/elf"
	"fmt"
	"io/fs"
	"path"
	"strings"

	"diorthos/platform/grub"
)

// moduleFolders are where GRUB's modules lie of which its program for UEFI was put together.
var moduleFolders = []string{
	"boot/grub/x86_64-efi",
	"usr/lib/grub/x86_64-efi",
	"boot/grub/arm64-efi",
	"usr/lib/grub/arm64-efi",
}

// damage says which module that GRUB's program carries is not what it was made of: it is nearly one that lies on the
// machine, and not quite. One of another version is another altogether, and nothing is said of it.
func (s *loaderChain) damage(raw []byte) error {
	carried, ok := grub.Carries(raw, 8)
	if !ok {
		return nil
	}
	root := s.ground.Volume(s.ground.System)
	if root == nil {
		return nil
	}
	root = s.ground.Whole(root, Adapter{}.Mounts(root))
	for _, module := range carried.Modules {
		name, err := moduleName(module)
		if err != nil {
			return fmt.Errorf("a module that it carries is damaged: %w", err)
		}
		wrong := -1 // bytes, by the one that is most alike
		for _, folder := range moduleFolders {
			kept, err := fs.ReadFile(root, path.Join(folder, name+".mod"))
			if err != nil || len(kept) > len(module) || len(bytes.Trim(module[len(kept):], "\x00")) > 0 {
				continue
			}
			if n := differing(kept, module); wrong < 0 || n < wrong {
				wrong = n
			}
		}
		if wrong > 0 && wrong*50 < len(module) {
			return fmt.Errorf(
				"the module %s that it carries is damaged: %d of its bytes are not those of the file it was made of",
				name,
				wrong,
			)
		}
	}
	return nil
}

// moduleName is the name that a module bears (GRUB's developers' manual, "Module lists").
func moduleName(module []byte) (string, error) {
	f, err := elf.NewFile(bytes.NewReader(module))
	if err != nil {
		return "", err
	}
	section := f.Section(".modname")
	if section == nil {
		return "", fmt.Errorf("it bears no name")
	}
	text, err := section.Data()
	if err != nil {
		return "", err
	}
	name := strings.TrimRight(string(text), "\x00")
	if name == "" || strings.ContainsAny(name, "/\x00") {
		return "", fmt.Errorf("it bears the name %q", name)
	}
	return name, nil
}

func differing(a, b []byte) (n int) {
	for i := range a {
		if a[i] != b[i] {
			n++
		}
	}
	return n
}
