// Package knowledge loads, checks and compiles what Diorthos knows: dialects
// of logs, families of codes, causes, the signatures that point to them and
// the remedies that help.
//
//	k, err := knowledge.Load(files)        // an fs.FS, such as the shipped one
//	fmt.Println(k.Version, len(k.Causes))
//
// The files are YAML, described with a tutorial in docs/knowledge.md. An error
// names file and line.
package knowledge
