package debian

import (
	"encoding/binary"
	"io/fs"
	"os"
	"path"
	"strings"
	"testing"
	"testing/fstest"

	"diorthos/core/system"
)

// putTogether does what grub-mkimage does with modules, without the program around them.
func putTogether(modules ...[]byte) []byte {
	body := []byte{}
	for _, m := range modules {
		for len(m)%8 != 0 {
			m = append(m, 0)
		}
		body = binary.LittleEndian.AppendUint32(body, 0) // a module
		body = binary.LittleEndian.AppendUint32(body, uint32(len(m)+8))
		body = append(body, m...)
	}
	head := binary.LittleEndian.AppendUint32(nil, 0x676d696d)
	head = binary.LittleEndian.AppendUint32(head, 0)
	head = binary.LittleEndian.AppendUint64(head, 24)
	head = binary.LittleEndian.AppendUint64(head, uint64(24+len(body)))
	return append(append([]byte("program"), head...), body...)
}

// Modules that GRUB's program carries are held against the files that they were made of: nearly the same is damaged,
// and what is another version is not.
func TestAModuleThatIsNearlyTheSameIsDamaged(t *testing.T) {
	const folder = "/usr/lib/grub/i386-pc/" // modules are alike in form
	files := map[string][]byte{}
	for _, name := range []string{"fat", "echo", "ls"} {
		raw, err := os.ReadFile(folder + name + ".mod")
		if err != nil {
			t.Fatal(err)
		}
		files[name] = raw
	}
	altered := func(name string, by int) []byte {
		raw := append([]byte(nil), files[name]...)
		for i := range by {
			raw[len(raw)/2+i] ^= 0x10
		}
		return raw
	}
	cut := append([]byte(nil), files["ls"]...)
	copy(cut, "none")
	root := fstest.MapFS{}
	for name, raw := range files {
		root[path.Join("boot/grub/x86_64-efi", name+".mod")] = &fstest.MapFile{Data: raw}
	}
	s := &loaderChain{ground: system.Ground{System: 1, Volume: func(int) fs.FS { return root }}}
	for what, c := range map[string]struct {
		image []byte
		want  string
	}{
		"whole":             {putTogether(files["fat"], files["echo"], files["ls"]), ""},
		"one bit":           {putTogether(files["fat"], altered("echo", 1)), "echo"},
		"another version":   {putTogether(altered("fat", len(files["fat"])/3)), ""},
		"no module":         {putTogether(files["fat"], cut), "a module that it carries is damaged"},
		"one nobody has":    {putTogether(files["fat"]), ""},
		"without any marks": {[]byte("another program"), ""},
	} {
		if what == "one nobody has" {
			delete(root, "boot/grub/x86_64-efi/fat.mod")
		}
		err := s.damage(c.image)
		if (err == nil) != (c.want == "") || err != nil && !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %q", what, err, c.want)
		}
		root["boot/grub/x86_64-efi/fat.mod"] = &fstest.MapFile{Data: files["fat"]}
	}
}
