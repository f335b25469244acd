// Package knowledge holds the shipped knowledge as files: dialects, codes,
// causes, signatures, remedies, releases, checks, families, messages and what healthy
// machines print. It is data; core/knowledge reads it. How to write more of it stands in docs/knowledge.md.
package knowledge

import "embed"

// Files is the shipped knowledge.
//
//go:embed *.yaml
//go:embed dialects codes causes signatures remedies releases checks families messages catalogues healthy
var Files embed.FS
