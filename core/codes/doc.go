// Package codes reads status codes. A code is a number that means something
// in one or more families: error numbers of an operating system, result codes
// whose bits are fields, and so on. Families are data in knowledge/codes/.
//
//	value, err := codes.Parse("0x80070070")
//	for _, reading := range table.Decode(value) {
//		fmt.Println(reading.Family, reading.Name, reading.Text)
//	}
//
// How a family is described stands in docs/knowledge.md, section "Codes".
package codes
